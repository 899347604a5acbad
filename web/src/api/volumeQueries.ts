import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { call } from './client'
import type { components } from './schema'
import { keys } from './keys'

type Schemas = components['schemas']
export type Volumes = Schemas['VolumesOut']
export type VolumeLook = Schemas['VolumeLookOut']
export type RepairGroup = Schemas['RepairGroupOut']
export type VolumeRepair = Schemas['VolumeRepairOut']
export type Share = Schemas['ShareOut']
export type Rescue = Schemas['RescueOut']
export type VolumeJob = Schemas['VolumeJobOut']
export type SystemRecords = Schemas['RecordsOut']
export type SystemEvent = Schemas['RecordEventOut']

const LIVE_MS = 700

/** One volume of a ticket; looked at again while something goes on with it. Nothing named: the main one of the machine's own disk. */
export const useVolumes = (id: number, source: string, first: number | null) =>
  useQuery({
    queryKey: keys.volumes(id, source, first),
    queryFn: ({ signal }) => call<Volumes>(`/tickets/${id}/volumes?source=${encodeURIComponent(source)}${first === null ? '' : `&first=${first}`}`, { signal }),
    placeholderData: keepPreviousData,
    refetchInterval: ({ state }) => (state.data?.job && state.data.job.problem === '' ? LIVE_MS : false),
  })

export type VolumeAsk =
  | { to: 'look' }
  | { to: 'records' }
  | { to: 'repair'; groups: string[] }
  | { to: 'take-back'; id: string }
  | { to: 'rescue'; only: string[]; deleted: boolean; is_all: boolean }

/** Have a volume looked at, repaired, a repair taken back, or files saved from it. */
export function useVolumeChange(id: number, volumes: Volumes | undefined) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: ({ ask: { to, ...rest }, by }: { ask: VolumeAsk; by: string }) =>
      call<Volumes>(`/tickets/${id}/volumes/${to}`, { method: 'POST', json: { ...rest, source: volumes?.source, first: volumes?.first, by } }),
    onSettled: () => cache.invalidateQueries({ queryKey: keys.volumes(id) }),
  })
}

/** What the systems of a volume say of themselves, as it was read last; null where nobody has. */
export const useRecords = (id: number, volumes: Volumes | undefined) =>
  useQuery({
    queryKey: keys.volumes(id, 'records', volumes?.source, volumes?.first, volumes?.has_records),
    queryFn: ({ signal }) => call<SystemRecords | null>(`/tickets/${id}/volumes/records?source=${encodeURIComponent(volumes?.source ?? '')}&first=${volumes?.first ?? 0}`, { signal }),
    enabled: volumes?.has_records ?? false,
  })

export type KeyAsk = { key?: string; file?: string; by: string } | { forget: true }

/** Open an encrypted volume for its ticket, or forget the key. What was typed is kept nowhere. */
export function useVolumeKey(id: number, volumes: Volumes) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (ask: KeyAsk) =>
      'forget' in ask
        ? call<Volumes>(`/tickets/${id}/volumes/key`, { method: 'DELETE' })
        : call<Volumes>(`/tickets/${id}/volumes/key`, { method: 'POST', json: { ...ask, source: volumes.source, first: volumes.first } }),
    networkMode: 'always', // a key waits for no server in anybody's memory
    gcTime: 0,
    onSettled: () => cache.invalidateQueries({ queryKey: keys.volumes(id) }),
  })
}

export type LivesAt = Schemas['LivesAtOut']
const MOST_ASKED = 64

/** What lives at sectors of a disk, as far as its volumes were looked at: LBA -> what. Nothing is asked for where there are none. */
export function useLivesAt(id: number, device: string, lbas: readonly number[]): ReadonlyMap<number, LivesAt> {
  const asked = [...new Set(lbas)].sort((a, b) => a - b).slice(0, MOST_ASKED)
  const { data = [] } = useQuery({
    queryKey: keys.lives(id, device, asked.join(' ')),
    queryFn: ({ signal }) => call<LivesAt[]>(`/tickets/${id}/volumes/where?device=${encodeURIComponent(device)}${asked.map((lba) => `&lba=${lba}`).join('')}`, { signal }),
    enabled: asked.length > 0 && device !== '',
  })
  return new Map(data.map((own) => [own.lba, own]))
}

/** In words: the file where one is known, else the structure, else what is known without a look. */
export const livesAt = (own: LivesAt | undefined, otherwise: string): string => (own ? [own.text, own.path].filter(Boolean).join(' ') : otherwise)

/** Show a folder of saved files in the file manager of the server's own computer. */
export const useOpenFolder = (id: number) => useMutation({ mutationFn: (rescue: string) => call<void>(`/tickets/${id}/volumes/rescues/${rescue}/open`, { method: 'POST' }) })
