import type { Held, SettingRow, Settings, Ticket, Trial } from '../../api/client'

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
