import type { KnownEntry, TicketIn } from '../../api/client'

/** A machine about to be taken in. `bay`: as text, empty for the shelf; `seen`: move -> outcome. */
export interface Draft {
  customer: string
  machine: string
  words: string
  by: string
  bay: string
  facts: Record<string, string>
  seen: Record<string, string>
}

export const emptyDraft = (by: string, bay: number | undefined): Draft => ({
  customer: '', machine: '', words: '', by, bay: String(bay ?? ''), facts: { data: 'unknown', platform: 'pc' }, seen: {},
})

/** A known customer brings the machine of the last visit, and what that one was, unless another was typed already. */
export function withCustomer(draft: Draft, known: KnownEntry): Draft {
  const named = { ...draft, customer: known.name }
  return draft.machine.trim() ? named : withMachine(named, { ...known, name: known.machine })
}

/** A known machine brings its shape, platform and kind of drive. */
export const withMachine = (draft: Draft, known: KnownEntry): Draft => ({ ...draft, machine: known.name, facts: { ...draft.facts, ...known.facts } })

/** The ticket as the server takes it. */
export function ticketOf(draft: Draft, by: string): TicketIn {
  return {
    customer: draft.customer, machine: draft.machine, words: draft.words, by, bay: draft.bay ? Number(draft.bay) : null, facts: draft.facts,
    entries: ['story', 'screen'].flatMap((id) => (draft.seen[id] ? [{ move: id, outcome: draft.seen[id] }] : [])),
  }
}
