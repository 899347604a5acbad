import type { Held, Ticket } from '../../api/client'

const MOST_GROUPS = 3

/** Interlocks that hold a whole class of moves at all times are shown only where such a move would be wanted. */
function isMissed(ticket: Ticket, held: Held): boolean {
  const leading = ticket.suspects.slice(0, 3).map((s) => s.fault)
  if (held.interlock === 'warning-is-real') return leading.includes('alarm.false')
  if (held.interlock === 'data-unprotected' || held.interlock === 'mains-power') return ticket.call.held_by.includes(held.interlock)
  return true
}

/** Held moves where they are missed, by interlock, those about the present danger first. */
export function heldGroups(ticket: Ticket): (readonly Held[])[] {
  const groups = new Map<string, Held[]>()
  for (const held of ticket.held) {
    if (isMissed(ticket, held)) groups.set(held.interlock, [...(groups.get(held.interlock) ?? []), held])
  }
  return [...groups.values()].slice(0, MOST_GROUPS)
}
