import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { call } from './client'
import type { components } from './schema'
import { keys } from './keys'

type Schemas = components['schemas']
export type Path = Schemas['PathOut']
export type PathStop = Schemas['StopOut']
export type PathPlan = Schemas['PathPlanOut']
export type PathSpan = Schemas['SpanOut']
export type Mend = Schemas['MendOut']

const LIVE_MS = 1000

const busy = (path: Path | undefined): boolean => path !== undefined && (path.reading !== null || path.mends.some((m) => m.state === 'waiting'))

/** The boot path of one disk; looked at again while something is read or written. Empty names: the machine's own, as it was started. */
export const usePath = (id: number, device: string, mode: string) =>
  useQuery({
    queryKey: keys.path(id, device, mode),
    queryFn: ({ signal }) => call<Path>(`/tickets/${id}/path?device=${encodeURIComponent(device)}&mode=${mode}`, { signal }),
    refetchInterval: ({ state }) => (busy(state.data) ? LIVE_MS : false),
  })

type Ask = { to: 'read'; device: string } | { to: 'mend'; device: string; plan: string; mode: string } | { to: 'take-back'; order: number }

/** Have sectors read, a plan carried out, or one taken back. */
export function usePathChange(id: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: ({ ask: { to, ...rest }, by }: { ask: Ask; by: string }) => call<Path>(`/tickets/${id}/path/${to}`, { method: 'POST', json: { ...rest, by } }),
    onSettled: () => cache.invalidateQueries({ queryKey: keys.path(id) }),
  })
}
