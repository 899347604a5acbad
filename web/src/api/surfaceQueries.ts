import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { initials } from '../lib/person'
import { call } from './client'
import type { components } from './schema'
import { keys } from './keys'

type Schemas = components['schemas']
export type Surfaces = Schemas['SurfacesOut']
export type SurfaceRead = Schemas['SurfaceReadOut']
export type Surface = Schemas['SurfaceOut']
export type RibbonBin = Schemas['RibbonBinOut']
export type Place = Schemas['PlaceOut']

const LIVE_MS = 4000

/** All reads of a ticket's surfaces; looked at again while one may be running. */
export const useSurfaces = (id: number, isLive: boolean) =>
  useQuery({ queryKey: keys.surfaces(id), queryFn: ({ signal }) => call<Surfaces>(`/tickets/${id}/surfaces`, { signal }), refetchInterval: isLive ? LIVE_MS : false })

/** A span of one read in so many bins; null asks for nothing. */
export const useSurface = (id: number, read: SurfaceRead | null, span: readonly [number, number] | null, bins: number) =>
  useQuery({
    queryKey: keys.surface(id, read?.id, span?.[0], span?.[1], bins, read?.state),
    queryFn: ({ signal }) => call<Surface>(`/tickets/${id}/surfaces/${read!.id}?bins=${bins}${span ? `&first=${Math.round(span[0])}&end=${Math.round(span[1])}` : ''}`, { signal }),
    enabled: read !== null, placeholderData: keepPreviousData, refetchInterval: read?.state === 'running' ? LIVE_MS : false,
  })

export type Copy = Schemas['CopyOut']

/** The copies of this ticket's drives on the bench's own disk. */
export const useCopies = (id: number) => useQuery({ queryKey: keys.copies(id), queryFn: ({ signal }) => call<Copy[]>(`/tickets/${id}/copies`, { signal }) })

export function useRemoveCopy(id: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (order: number) => call<Copy[]>(`/tickets/${id}/copies/${order}`, { method: 'DELETE' }),
    onSuccess: (copies) => cache.setQueryData(keys.copies(id), copies),
  })
}

export type Target = components['schemas']['TargetOut']

export const useTargets = (id: number, copy: number | null) =>
  useQuery({ queryKey: keys.targets(id, copy), queryFn: ({ signal }) => call<Target[]>(`/tickets/${id}/copies/${copy}/targets`, { signal }), enabled: copy !== null })

/** Names of the encryptions of an image that a key of its ticket opens. */
export const useOpens = (id: number, copy: number) =>
  useQuery({ queryKey: keys.opens(id, copy), queryFn: ({ signal }) => call<string[]>(`/tickets/${id}/copies/${copy}/opens`, { signal }) })

export function useFill(id: number, copy: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (said: { device: string; serial: string; ends: string; holes: boolean; over: boolean; opened: boolean }) => call(`/tickets/${id}/copies/${copy}/fill`, { method: 'POST', json: { ...said, by: initials() } }),
    onSuccess: () => cache.invalidateQueries({ queryKey: keys.link(id) }),
  })
}

export const surfaceCsv = (id: number, read: string, what: 'places' | 'map'): string => `/api/tickets/${id}/surfaces/${read}/csv?what=${what}`
