import { useQuery } from '@tanstack/react-query'
import { useLocation } from 'wouter'

import { call, type Ticket } from '../../api/client'
import { keys } from '../../api/keys'
import type { components } from '../../api/schema'
import { day } from '../../lib/format'
import { T } from '../../words'

type Stay = components['schemas']['EarlierOut']

/** The same machine was here before: what was found and done then, and whether its warranty still runs. */
export function Earlier({ ticket }: { ticket: Ticket }) {
  const [, navigate] = useLocation()
  const { data = [] } = useQuery({ queryKey: keys.earlier(ticket.id), queryFn: ({ signal }) => call<Stay[]>(`/tickets/${ticket.id}/earlier`, { signal }), staleTime: 60_000 })
  const last = data[0]
  if (!last || ticket.closed_at) return null
  return (
    <details className="border-l-4 border-indigo bg-sheet px-3 py-1.5 text-m" data-earlier>
      <summary className="min-h-8 cursor-pointer"><strong>{T.hereBefore(day(last.closed_at))}</strong> {last.done[0] ?? last.found[0]}{last.in_warranty && <strong className="text-ochre-ink"> {T.inWarranty(day(last.warranty_until))}</strong>}</summary>
      {data.map((stay) => (
        <div key={stay.id} className="border-t border-hair py-1.5">
          <button type="button" onClick={() => navigate(`/ticket/${stay.id}`)} className="touch min-h-8 font-mono text-s text-indigo">{stay.number}</button>
          <ul>{[...stay.found, ...stay.done].map((line) => <li key={line}>{line}</li>)}</ul>
        </div>
      ))}
    </details>
  )
}
