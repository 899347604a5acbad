import type { Bench, BenchRow } from '../../api/client'
import { T } from '../../words'

/** The columns that the gate names and every row of the bench share, so that the eye compares machines. */
export const LINE_WIDTH = 640
export const BAY_COLUMN = 'w-[56px] shrink-0'
export const NAME_COLUMN = 'w-[180px] shrink-0 xl:w-[244px]'
export const LINE_COLUMN = 'min-w-0 max-w-[640px] flex-[3]'
export const TODO_COLUMN = 'min-w-[200px] flex-1'

const GROUPS = [
  { turn: 'hands', title: T.handsWanted },
  { turn: 'running', title: T.running },
  { turn: 'done', title: T.done },
] as const

/** Rows by whose turn it is; a group without rows is left out. */
export function groupsOf(rows: readonly BenchRow[]) {
  return GROUPS.map(({ turn, title }) => ({ turn, title, group: rows.filter((r) => r.turn === turn) })).filter(({ group }) => group.length > 0)
}

/** Bays without a ticket. */
export function freeBays(bench: Bench): number[] {
  const taken = bench.rows.flatMap((r) => r.bay ?? [])
  return Array.from({ length: bench.bays }, (_, index) => index + 1).filter((b) => !taken.includes(b))
}
