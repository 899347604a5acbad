import { useMutation, useQueryClient, type QueryKey } from '@tanstack/react-query'

import { AwayError, type Ticket } from './client'
import { keys } from './keys'

interface More {
  /** what else follows from it, besides the ticket and the bench */
  also?: readonly QueryKey[]
  /** it goes into this ticket's queue; while the server is away it is tried again, and a key of its own keeps it single */
  tape?: number
}

/** The one way to change a ticket: the answer is the ticket as it is then, and what follows from it is asked for anew. */
export function useTicketChange<V>(change: (what: V) => Promise<Ticket>, { also = [], tape }: More = {}) {
  const cache = useQueryClient()
  const patient = { scope: { id: `tape-${tape}` }, retry: (_: number, error: Error) => error instanceof AwayError, retryDelay: 1000, networkMode: 'always' as const }
  return useMutation({
    mutationFn: change,
    ...(tape === undefined ? {} : patient),
    onSuccess: (ticket) => {
      cache.setQueryData(keys.tickets(ticket.id), ticket)
      for (const queryKey of [keys.bench(), ...also]) void cache.invalidateQueries({ queryKey })
    },
  })
}
