import type { TicketRoom } from '../../api/workQueries'

/** Bytes that deleting would free. */
export const bytesOf = (own: Pick<TicketRoom, 'images' | 'recovered' | 'checks'>): number => own.images + own.recovered + own.checks

/** Tickets that may be deleted from: those that were handed over, in the order they are shown. */
export const deletable = (tickets: readonly TicketRoom[]): TicketRoom[] => tickets.filter((own) => own.closed_at !== null)
