import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import { ticketQuery } from './queries'
import type { Ticket } from './client'

interface Change {
  kind: string
  ticket: number
  place?: number
}

/** Listens to the server's events and refreshes what they touch. Returns since when the server is away, or null. */
export function useServerEvents(): Date | null {
  const cache = useQueryClient()
  const [awaySince, setAwaySince] = useState<Date | null>(null)
  useEffect(() => {
    const source = new EventSource('/api/events')
    let wasAway = false
    source.addEventListener('hello', () => {
      setAwaySince(null)
      // whatever happened while it was away
      if (wasAway) void cache.invalidateQueries()
      wasAway = false
    })
    source.addEventListener('change', (event) => {
      const change = JSON.parse(String(event.data)) as Change
      void cache.invalidateQueries({ queryKey: ['bench'] })
      if (change.kind === 'file') void cache.invalidateQueries({ queryKey: ['captures', change.ticket] })
      const known = cache.getQueryData<Ticket>(ticketQuery(change.ticket).queryKey)
      const isOwn = known && change.place !== undefined && change.place < known.tape.length
      if (!isOwn) void cache.invalidateQueries({ queryKey: ['tickets', change.ticket] })
    })
    source.onerror = () => {
      wasAway = true
      setAwaySince((since) => since ?? new Date())
    }
    return () => source.close()
  }, [cache])
  return awaySince
}
