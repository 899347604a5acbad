import { useQueryClient, type QueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import type { Ticket } from './client'
import { keys } from './keys'

interface Change {
  kind: string
  ticket: number
  place?: number
}

const OWN_ANSWER_MS = 400

function refreshUnlessKnown(cache: QueryClient, change: Change): void {
  const known = cache.getQueryData<Ticket>(keys.tickets(change.ticket))
  const isOwn = known && change.place !== undefined && change.place < known.tape.length
  if (!isOwn) void cache.invalidateQueries({ queryKey: keys.tickets(change.ticket) })
}

/** Listens to the server's events and refreshes what they touch. `since`: when the server went away, or null; `isNewer`: it runs another version of the program than this page. */
export function useServerEvents(): { since: Date | null; isNewer: boolean } {
  const cache = useQueryClient()
  const [isNewer, setIsNewer] = useState(false)
  const [awaySince, setAwaySince] = useState<Date | null>(null)
  useEffect(() => {
    const source = new EventSource('/api/events')
    let wasAway = false
    let program = ''
    source.addEventListener('hello', (event) => {
      const hello = JSON.parse(String(event.data)) as { program?: string }
      if (program && hello.program && hello.program !== program) setIsNewer(true)
      program ||= hello.program ?? ''
      setAwaySince(null)
      // whatever happened while it was away
      if (wasAway) void cache.invalidateQueries()
      wasAway = false
    })
    source.addEventListener('change', (event) => {
      const change = JSON.parse(String(event.data)) as Change
      void cache.invalidateQueries({ queryKey: keys.bench() })
      if (change.kind === 'shelf') for (const of of [keys.shelf, keys.parts]) void cache.invalidateQueries({ queryKey: of() })
      if (change.kind === 'devices') void cache.invalidateQueries({ queryKey: keys.devices() })
      if (change.kind === 'technicians') {
        void cache.invalidateQueries({ queryKey: keys.technicians() })
        void cache.invalidateQueries({ queryKey: keys.me() })
      }
      if (change.kind === 'knock') {
        void cache.invalidateQueries({ queryKey: keys.knocks() })
        return
      }
      if (change.kind === 'link') {
        void cache.invalidateQueries({ queryKey: keys.link(change.ticket) })
        for (const of of [keys.path, keys.volumes]) void cache.invalidateQueries({ queryKey: of(change.ticket) })
        return
      }
      if (change.kind === 'file' || change.kind === 'work') {
        for (const of of [keys.surfaces, keys.surface, keys.copies, keys.link, keys.path, keys.volumes]) void cache.invalidateQueries({ queryKey: of(change.ticket) })
      }
      if (change.kind === 'file') void cache.invalidateQueries({ queryKey: keys.captures(change.ticket) })
      // while an own entry is on its way, its answer brings the ticket: look again once it is there
      const wait = cache.isMutating() > 0 ? OWN_ANSWER_MS : 0
      setTimeout(() => refreshUnlessKnown(cache, change), wait)
    })
    source.onerror = () => {
      wasAway = true
      setAwaySince((since) => since ?? new Date())
    }
    return () => source.close()
  }, [cache])
  return { since: awaySince, isNewer }
}
