import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { call } from './client'
import type { components } from './schema'
import { keys } from './keys'

export type Knock = components['schemas']['KnockOut']
type Knocks = components['schemas']['KnocksOut']

const LIVE_MS = 5000

/** Machines that were started from the stick and wait to be taken to a ticket. */
export const useKnocks = () => useQuery({ queryKey: keys.knocks(), queryFn: ({ signal }) => call<Knocks>('/knocks', { signal }), refetchInterval: LIVE_MS })

/** Say that a machine is this ticket's. */
export function useTakeKnock() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: ({ token, ticket, by }: { token: string; ticket: number; by: string }) => call<Knocks>(`/knocks/${encodeURIComponent(token)}`, { method: 'POST', json: { ticket, by } }),
    onSuccess: (knocks) => cache.setQueryData(keys.knocks(), knocks),
  })
}
