import type { SystemEvent } from '../../api/volumeQueries'

export const ROWS = ['runs', 'power', 'updates', 'disk', 'crashes', 'other'] as const
export type Row = (typeof ROWS)[number]

export const MINUTE = 60_000
export const DAY = 86_400_000
/** How much of the time line is seen at once, in milliseconds: from all of it to minutes. */
export const SPANS = [365 * DAY, 90 * DAY, 30 * DAY, 7 * DAY, DAY, 6 * 60 * MINUTE, 60 * MINUTE] as const

export interface Run { from: number; to: number; isShutDown: boolean }

export const time = (event: SystemEvent): number => Date.parse(event.at ?? '')

/** Runs of the system: from a start to its shutdown, or, where there was none, to the last record before the next start. */
export function runs(events: readonly SystemEvent[]): Run[] {
  const found: Run[] = []
  let from: number | null = null
  let last = 0
  for (const event of events) {
    const at = time(event)
    if (event.kind === 'start') {
      if (from !== null && at - from > 2 * MINUTE) { found.push({ from, to: Math.max(last, from), isShutDown: false }); from = at } else from ??= at
    } else if (event.kind === 'stop' && from !== null) {
      found.push({ from, to: at, isShutDown: true })
      from = null
    }
    last = Date.parse(event.until ?? event.at ?? '')
  }
  if (from !== null) found.push({ from, to: Math.max(last, from), isShutDown: false })
  return found
}

/** Events that have a mark of their own, in the order of time: starts and stops are the band. */
export const marks = (events: readonly SystemEvent[]): SystemEvent[] => events.filter((e) => e.row !== 'runs')

export interface Window { from: number; to: number }

/** What is seen: so much of the time, around what is in hand, within what there is. */
export function seen(events: readonly SystemEvent[], span: number, inHand: number): Window {
  const first = time(events[0]!)
  const last = Math.max(...events.map((e) => Date.parse(e.until ?? e.at ?? '')))
  const room = Math.max(60 * MINUTE, (last - first) * 0.02)
  const whole = { from: first - room, to: last + room }
  if (whole.to - whole.from <= span) return whole
  const from = Math.min(Math.max(inHand - span / 2, whole.from), whole.to - span)
  return { from, to: from + span }
}

/** Times at which a line is drawn and named, at most eight. */
export function ticks({ from, to }: Window): number[] {
  const step = [5 * MINUTE, 15 * MINUTE, 60 * MINUTE, 3 * 60 * MINUTE, 12 * 60 * MINUTE, DAY, 7 * DAY, 14 * DAY, 30 * DAY, 91 * DAY].find((s) => (to - from) / s <= 8) ?? 182 * DAY
  const found: number[] = []
  for (let at = Math.ceil(from / step) * step; at <= to; at += step) found.push(at)
  return found
}

/** The name of a time: the day, or the hour where the window is short. */
export function named(at: number, { from, to }: Window): string {
  const own = new Date(at)
  return to - from > 2 * DAY ? own.toLocaleDateString('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' }) : own.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit', timeZone: 'UTC' })
}

export const moment = (iso: string): string =>
  new Date(iso).toLocaleString('en-GB', { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit', timeZone: 'UTC' })
