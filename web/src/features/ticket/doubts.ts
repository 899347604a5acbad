import type { Ticket } from '../../api/client'

type Doubt = Ticket['doubts'][number]
type Tape = readonly { readonly place: number; readonly body: Ticket['tape'][number]['body'] }[]

/** The doubt that the page shows; none where the next step is already to repeat that very look. */
export function shownDoubt(doubts: readonly Doubt[], tape: Tape, next: readonly { readonly move: string }[]): Doubt | null {
  const doubt = doubts[0]
  if (!doubt) return null
  const looked = tape.find((entry) => entry.place === doubt.entries[0])?.body['move']
  return doubt.take_back === null && looked === next[0]?.move ? null : doubt
}
