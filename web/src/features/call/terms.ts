import type { Terms } from '../../api/client'

export const DATA = ['unknown', 'irreplaceable', 'backed-up', 'none'] as const
export const URGENCY = ['can-wait', 'this-week', 'today'] as const
export const NUMBERS = ['data_value', 'budget', 'machine_value'] as const

/** The next value of a row of values; a key walks through them. */
export function following<V extends string>(values: readonly V[], now: string): V {
  const at = values.indexOf(now as V)
  return values[(at + 1) % values.length]!
}

/** What was changed against the ticket: only that is sent, and only that is kept when the call is signed. */
export function changedTerms(tried: Terms, kept: Readonly<Record<string, unknown>>): Terms {
  return Object.fromEntries(Object.entries(tried).filter(([name, value]) => kept[name] !== value))
}
