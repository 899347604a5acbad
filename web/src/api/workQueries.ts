/** Queries of the work after the call: the job, parts and shelf, pictures and papers, the shop's page. */
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { initials } from '../lib/person'
import { api, call, type Shelf, type ShopPage, type Ticket } from './client'
import { useTicketChange } from './changes'
import { keys } from './keys'
import type { components } from './schema'

export type Room = components['schemas']['RoomOut']
export type TicketRoom = components['schemas']['TicketRoomOut']

/** The job as it stands with this tape; the one before stays in sight until it is there. */
export const useWork = (ticket: Ticket, enabled = true) =>
  useQuery({
    queryKey: keys.work(ticket.id, ticket.tape.length, ticket.files.length), queryFn: ({ signal }) => api.work(ticket.id, signal),
    placeholderData: (kept) => kept, enabled,
  })

/** A change of the work: `place` under the ticket. Sent again while the server is away; its key keeps it single. */
export const useDoWork = (id: number) =>
  useTicketChange(
    ({ place, json, key }: { place: string; json: Record<string, unknown>; key: string }) => api.doWork(id, place, { ...json, by: initials(), key }),
    { tape: id, also: [keys.parts()] },
  )
export const useParts = (ticket: Ticket) =>
  useQuery({ queryKey: keys.parts(ticket.id, ticket.tape.length), queryFn: ({ signal }) => api.parts(ticket.id, signal), placeholderData: (kept) => kept })
export const useShelf = () => useQuery({ queryKey: keys.shelf(), queryFn: ({ signal }) => api.shelf(signal) })

/** A change of the shelf; its answer is the shelf as it is then. */
export function useShelfChange() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (change: () => Promise<Shelf>) => change(),
    onSuccess: (shelf) => {
      cache.setQueryData(keys.shelf(), shelf)
      void cache.invalidateQueries({ queryKey: keys.parts() })
    },
  })
}

/** A picture is kept on the ticket. */
export const useAddPicture = (id: number) =>
  useTicketChange(({ file, says, evidence, key }: { file: File; says: string; evidence: boolean; key: string }) => api.addPicture(id, file, says, evidence, initials(), key), { tape: id })
export const usePapers = (ticket: Ticket) =>
  useQuery({ queryKey: keys.papers(ticket.id, ticket.tape.length, ticket.closed_at), queryFn: ({ signal }) => api.papers(ticket.id, signal), placeholderData: (kept) => kept })
export const usePaper = (ticket: Ticket, kind: string) =>
  useQuery({ queryKey: keys.paper(ticket.id, kind, ticket.tape.length, ticket.closed_at), queryFn: ({ signal }) => api.paper(ticket.id, kind, signal) })

export const useErase = (id: number) => useTicketChange(() => api.eraseCustomer(id, initials()), { also: [keys.paper(), keys.papers()] })
export const useShopPage = () => useQuery({ queryKey: keys.shop(), queryFn: ({ signal }) => api.shopPage(signal) })
export const usePaces = () => useQuery({ queryKey: keys.paces(), queryFn: ({ signal }) => api.paces(signal) })

export function usePutShopPage() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (page: Partial<ShopPage>) => api.putShopPage(page, initials()),
    onSuccess: (page) => {
      cache.setQueryData(keys.shop(), page)
      for (const of of [keys.paper, keys.bench]) void cache.invalidateQueries({ queryKey: of() })
    },
  })
}

const NO_CHARGES = { currency: 'XXX' }

/** What the shop charges in. */
export const useCharges = (): { currency: string } => useShopPage().data ?? NO_CHARGES

/** What the bench's disk holds for each ticket. */
export const useRoom = () => useQuery({ queryKey: keys.room(), queryFn: ({ signal }) => call<Room>('/room', { signal }) })

/** Delete images and recovered files of a ticket that was handed over. */
export function useMakeRoom() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (id: number) => call<Room>(`/room/${id}`, { method: 'POST', json: { by: initials() } }),
    onSuccess: (room, id) => {
      cache.setQueryData(keys.room(), room)
      void cache.invalidateQueries({ queryKey: keys.volumes(id) })
    },
  })
}
