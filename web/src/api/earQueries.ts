import { useQuery } from '@tanstack/react-query'

import { useTicketChange } from './changes'
import { call, type Ticket } from './client'
import type { components } from './schema'
import { keys } from './keys'

type Schemas = components['schemas']
export type Ear = Schemas['EarOut']
export type Recording = Schemas['RecordingOut']
export type HeardEvent = Schemas['HeardEventOut']

export const useEar = (id: number) => useQuery({ queryKey: keys.ear(id), queryFn: ({ signal }) => call<Ear>(`/tickets/${id}/ear`, { signal }) })

type Ask = { file: File; key: string } | { practice: true } | { seconds: number | null; waited: number }

/** A recording kept, the practice machine recorded, or a ready time put on the tape. */
export const useEarChange = (id: number, by: string) =>
  useTicketChange(
    (ask: Ask) => {
      if ('practice' in ask) return call<Ticket>(`/tickets/${id}/recordings/practice`, { method: 'POST', json: { by } })
      if ('waited' in ask) return call<Ticket>(`/tickets/${id}/ready`, { method: 'POST', json: { ...ask, by } })
      const form = new FormData()
      form.append('file', ask.file)
      form.append('by', by)
      form.append('key', ask.key)
      return call<Ticket>(`/tickets/${id}/recordings`, { method: 'POST', form })
    },
    { also: [keys.ear(id)] },
  )

export const recordingUrl = (id: number, sha256: string): string => `/api/tickets/${id}/recordings/${sha256}`
export const referenceUrl = (kind: string): string => `/api/ear/references/${kind}`
