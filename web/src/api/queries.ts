import { queryOptions, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { initials } from '../lib/person'
import { api, AwayError, type EntryBody, type TicketIn } from './client'

export const benchQuery = queryOptions({ queryKey: ['bench'], queryFn: ({ signal }) => api.bench(signal) })
export const wordsQuery = queryOptions({
  queryKey: ['words'],
  queryFn: ({ signal }) => api.words(signal),
  staleTime: Infinity,
})
export const ticketQuery = (id: number) =>
  queryOptions({ queryKey: ['tickets', id], queryFn: ({ signal }) => api.ticket(id, signal) })
export const capturesQuery = (id: number) =>
  queryOptions({ queryKey: ['captures', id], queryFn: ({ signal }) => api.captures(id, signal) })

export const useBench = () => useQuery(benchQuery)
export const useTicket = (id: number) => useQuery(ticketQuery(id))
export const useCaptures = (id: number) => useQuery(capturesQuery(id))

/** Sends an entry. While the server is away it is tried again until it answers; its key keeps it single. */
export function useAppend(id: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: ({ entry, key }: { entry: EntryBody; key: string }) => api.append(id, entry, initials(), key),
    scope: { id: `tape-${id}` },
    retry: (_, error) => error instanceof AwayError,
    retryDelay: 1000,
    networkMode: 'always',
    onSuccess: (ticket) => {
      cache.setQueryData(ticketQuery(id).queryKey, ticket)
      void cache.invalidateQueries({ queryKey: ['bench'] })
    },
  })
}

export function useTakeIn() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (ticket: TicketIn) => api.takeIn(ticket),
    onSuccess: (ticket) => {
      cache.setQueryData(ticketQuery(ticket.id).queryKey, ticket)
      void cache.invalidateQueries({ queryKey: ['bench'] })
    },
  })
}

export function useAddFile(id: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (file: File) => api.addFile(id, file, initials()),
    onSettled: () => {
      void cache.invalidateQueries({ queryKey: ['tickets', id] })
      void cache.invalidateQueries({ queryKey: ['captures', id] })
    },
  })
}

export function useWeigh(id: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: ({ sha256, device }: { sha256: string; device: string }) => api.weigh(id, sha256, device, initials()),
    onSuccess: (ticket) => {
      cache.setQueryData(ticketQuery(id).queryKey, ticket)
      void cache.invalidateQueries({ queryKey: ['captures', id] })
    },
  })
}

export function useHandOver(id: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: () => api.handOver(id),
    onSuccess: (ticket) => {
      cache.setQueryData(ticketQuery(id).queryKey, ticket)
      void cache.invalidateQueries({ queryKey: ['bench'] })
    },
  })
}
