import type { EntryBody, Held, SettingRow, Settings, Ticket, Trial, Walk } from '../../api/client'

/** Values of a row as its key walks them: what the system needs first, then the others, "not shown" last. */
export function walkOrder(row: SettingRow): string[] {
  const ids = row.values.map((v) => v.id)
  return row.want ? [row.want, ...ids.filter((id) => id !== row.want)] : ids
}

/** The value after this one. */
export function following(row: SettingRow, value: string | null, by = 1): string {
  const order = walkOrder(row)
  const at = value === null ? -1 : order.indexOf(value)
  if (at < 0) return order[by > 0 ? 0 : order.length - 1]!
  return order[(at + by + order.length) % order.length]!
}

export const valueName = (row: SettingRow | undefined, value: string | null | undefined): string =>
  row?.values.find((v) => v.id === value)?.name ?? '?'

export const pendingTrial = (ticket: Ticket): Trial | undefined => ticket.trials.findLast((t) => t.standing === 'pending')
export const openTrial = (ticket: Ticket): Trial | undefined => ticket.trials.findLast((t) => t.standing === 'open')
export const rowOfFix = (sheet: Settings, fix: string): SettingRow | undefined => sheet.rows.find((r) => r.fix === fix)

/** Why a row's change is held back now, if it is. */
export const heldBack = (ticket: Ticket, row: SettingRow): Held | undefined => ticket.held.find((h) => h.move === row.fix)

/** True for a value that this system does not start with, and that its row can set right. */
export function isWrong(row: SettingRow, value: string | null): boolean {
  if (row.want === null || row.fix === null || value === null || value === row.want || value === 'not-shown') return false
  return row.values.find((v) => v.id === value)?.state !== 'fits'
}

export interface WalkToTry {
  name: string
  fix: string
  start: string
  first: string
}

/** The setting whose values can be tried one after another: from which one, and which comes first. */
export function walkToTry(ticket: Ticket, sheet: Settings, drafts: Record<string, string>): WalkToTry | undefined {
  const row = sheet.rows.find((r) => sheet.walkable[r.id])
  const start = row && (drafts[row.id] ?? row.now)
  if (!row?.fix || !start || start === 'not-shown' || heldBack(ticket, row)) return undefined
  const first = sheet.walkable[row.id]?.find((v) => v !== start)
  return first ? { name: row.name, fix: row.fix, start, first } : undefined
}

/** The entries that put a walk's value back and set the next one, sent as one; null where there is none to try. */
export function nextOfWalk(trial: Trial | undefined, walk: Walk | undefined): EntryBody[] | null {
  if (trial?.standing !== 'open' || !walk?.next) return null
  return [{ put_back: trial.fix }, { changed: trial.fix, before: walk.restore, after: walk.next, walk: true }]
}
