import { queryOptions, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'

import { requestKey } from '../lib/format'
import { initials } from '../lib/person'
import { api, type EntryBody, type Link, type Terms, type Ticket, type TicketIn } from './client'
import { useTicketChange } from './changes'
import { keys } from './keys'

export const benchQuery = queryOptions({ queryKey: keys.bench(), queryFn: ({ signal }) => api.bench(signal) })
export const wordsQuery = queryOptions({
  queryKey: keys.words(),
  queryFn: ({ signal }) => api.words(signal),
  staleTime: Infinity,
})
export const ticketQuery = (id: number) =>
  queryOptions({ queryKey: keys.tickets(id), queryFn: ({ signal }) => api.ticket(id, signal) })
export const capturesQuery = (id: number) =>
  queryOptions({ queryKey: keys.captures(id), queryFn: ({ signal }) => api.captures(id, signal) })

export const findQuery = (text: string) => queryOptions({ queryKey: keys.find(text), queryFn: () => api.find(text) })

export const useBench = () => useQuery(benchQuery)
export const useTicket = (id: number) => useQuery(ticketQuery(id))
export const useCaptures = (id: number, enabled = true) => useQuery({ ...capturesQuery(id), enabled })

/** Sends entries that stand or fall together. While the server is away they are tried again until it answers; their key keeps them single. */
export const useAppend = (id: number) =>
  useTicketChange(({ entries, key }: { entries: readonly EntryBody[]; key: string }) => api.append(id, entries, initials(), key), { tape: id })

/** Customers and machines of earlier tickets that begin so. */
export const useKnown = (customer: string, machine: string) =>
  useQuery({
    queryKey: keys.known(customer, machine), queryFn: ({ signal }) => api.known(customer, machine, signal), placeholderData: (kept) => kept,
    enabled: customer.length > 1 || machine.length > 1, staleTime: 30_000,
  })

export const useTakeIn = () => useTicketChange((ticket: TicketIn) => api.takeIn({ ...ticket, key: ticket.key ?? requestKey() }))

export function useAddFile(id: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (file: File) => api.addFile(id, file, initials()),
    onSettled: () => {
      void cache.invalidateQueries({ queryKey: keys.tickets(id) })
      void cache.invalidateQueries({ queryKey: keys.captures(id) })
    },
  })
}

export const useWeigh = (id: number) =>
  useTicketChange(({ sha256, device }: { sha256: string; device: string }) => api.weigh(id, sha256, device, initials()), { also: [keys.captures(id)] })

export const useHandOver = (id: number) =>
  useTicketChange(({ proven, waive }: { proven: readonly string[] | null; waive: string | null }) => api.handOver(id, proven, waive, initials()), { also: [keys.learning()] })

export const useReopen = (id: number) => useTicketChange(() => api.reopen(id))

/** The call sheet under terms that are tried and not kept; the last sheet stays in sight while the next one is worked out. */
export const useSheet = (id: number, terms: Terms, length: number) =>
  useQuery({
    queryKey: keys.sheet(id, length, terms), queryFn: ({ signal }) => api.sheet(id, terms, signal), placeholderData: (kept) => kept,
  })
/** What an instrument shows follows from the tape: a longer tape asks anew, and the last answer stays in sight meanwhile. */
export const useSettings = (ticket: Ticket) =>
  useQuery({
    queryKey: keys.settings(ticket.id, ticket.tape.length, ticket.files.length),
    queryFn: ({ signal }) => api.settings(ticket.id, signal), placeholderData: (kept) => kept,
  })
export const useSightings = (ticket: Ticket) =>
  useQuery({
    queryKey: keys.sightings(ticket.id, ticket.tape.length), queryFn: ({ signal }) => api.sightings(ticket.id, signal), placeholderData: (kept) => kept,
  })
export const useTicketKeys = (ticket: Ticket, isOn: boolean) =>
  useQuery({
    queryKey: keys.keys(ticket.id, ticket.tape.length), queryFn: ({ signal }) => api.ticketKeys(ticket.id, signal), placeholderData: (kept) => kept, enabled: isOn,
  })
export const useBookKeys = (machine: string, platform: string) =>
  useQuery({ queryKey: keys.book(machine, platform), queryFn: ({ signal }) => api.keys(machine, platform, signal), placeholderData: (kept) => kept })
export const useBookModels = () => useQuery({ queryKey: keys.book(), queryFn: ({ signal }) => api.bookModels(signal) })
export const useLink = (id: number) => useQuery({ queryKey: keys.link(id), queryFn: ({ signal }) => api.link(id, signal), refetchInterval: 5000 })
export const usePatients = () => useQuery({ queryKey: keys.patients(), queryFn: ({ signal }) => api.patients(signal), staleTime: Infinity })
export const useRaw = (id: number, sha256: string, path: string, at: number | null) =>
  useQuery({ queryKey: keys.raw(sha256, path, at), queryFn: ({ signal }) => api.raw(id, sha256, path, at, signal), staleTime: Infinity })

/** Anything that changes the link; its answer is the link as it is then. */
export function useLinkChange(id: number) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (change: () => Promise<Link>) => change(),
    onSuccess: (link) => cache.setQueryData(keys.link(id), link),
  })
}

export const useTakeInPractice = () =>
  useTicketChange(({ machine, bay }: { machine: string; bay: number | null }) => api.takeInPractice(machine, bay, initials()))
export const useGuesses = (id: number) => useQuery({ queryKey: keys.guesses(id), queryFn: ({ signal }) => api.guesses(id, signal) })
export const useLearning = () => useQuery({ queryKey: keys.learning(), queryFn: ({ signal }) => api.learning(signal) })

export function useResetLearning() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: () => api.resetLearning(initials()),
    onSuccess: (learning) => {
      cache.setQueryData(keys.learning(), learning)
      void cache.invalidateQueries({ queryKey: keys.tickets() })
      void cache.invalidateQueries({ queryKey: keys.bench() })
    },
  })
}
