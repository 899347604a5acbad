import type { Held, MoveWords, Ticket } from '../../api/client'

export interface Line {
  words: MoveWords
  held: Held | undefined
  isNext: boolean
}

/** All moves: those worth making first, then the held ones with their reason, then the rest; typing narrows them. */
export function moveLines(ticket: Ticket, all: MoveWords[], gate: string | null, text: string): Line[] {
  const order = new Map(ticket.next.map((n, index) => [n.move, index]))
  const wanted = text.trim().toLowerCase()
  const matches = (m: MoveWords) =>
    (!gate || wanted !== '' || m.gate === gate) &&
    (!wanted || [m.name, m.ask, ...Object.values(m.say)].some((words) => words.toLowerCase().includes(wanted)))
  const isNamed = (line: Line) => !wanted || line.words.name.toLowerCase().includes(wanted)
  const rank = (line: Line) => (isNamed(line) ? 0 : 1000) + (line.isNext ? (order.get(line.words.id) ?? 0) : line.held ? 200 : 100)
  return all
    .filter(matches)
    .map((words) => ({ words, held: ticket.held.find((h) => h.move === words.id), isNext: order.has(words.id) }))
    .sort((a, b) => rank(a) - rank(b))
}
