import type { Ticket, TicketIn } from '../../api/client'

const KEPT = ['platform', 'form', 'installed_os', 'drive_kind', 'drive_year', 'drive_size_gb', 'machine_value']
const MOST_PROVEN = 3

/** The same machine again, with what is still true of it. */
export function comingBack(ticket: Ticket, by: string): TicketIn {
  const facts = Object.fromEntries(Object.entries(ticket.facts).filter(([name]) => KEPT.includes(name)))
  return { customer: ticket.customer, machine: ticket.machine, words: '', facts, entries: [], bay: null, by, comeback_of: ticket.id }
}

const component = (fault: string) => fault.split('.')[0]

/** Marks a fault or takes the mark away: one state for each component, at most three faults. */
export function marking(marked: readonly string[], fault: string): readonly string[] {
  if (marked.includes(fault)) return marked.filter((m) => m !== fault)
  return [...marked.filter((m) => component(m) !== component(fault)), fault].slice(-MOST_PROVEN)
}
