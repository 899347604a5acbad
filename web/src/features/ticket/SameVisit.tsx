import { useState } from 'react'

import type { Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { lowerFirst } from '../../lib/format'
import { T } from '../../words'

interface SameVisitProps {
  ticket: Ticket
  moveId: string
  onAnswer: (move: string, outcome: string) => void
}

const MOST = 6

/** Looks that need the same place as the step in hand: answered in any order, as long as one is there. What was answered stays in sight. */
export function SameVisit({ ticket, moveId, onAnswer }: SameVisitProps) {
  const { move } = useWords()
  const visit = move(moveId).visit
  const [said, setSaid] = useState<Readonly<Record<string, string>>>({})
  const wanted = ticket.next.filter((n) => n.kind === 'check' && n.move !== moveId && move(n.move).visit === visit).map((n) => n.move)
  const shown = [...new Set([...Object.keys(said), ...wanted])].filter((id) => id !== moveId).slice(0, MOST)
  if (!visit || shown.length === 0 || ticket.closed_at) return null
  const answer = (id: string, outcome: string) => {
    setSaid({ ...said, [id]: outcome })
    onAnswer(id, outcome)
  }
  return (
    <section aria-label={T.sameVisit} data-same-visit className="mt-3 border-t border-hair pt-2">
      <h2 className="text-s font-bold text-soft">{T.sameVisit}</h2>
      <ul>
        {shown.map((id) => {
          const words = move(id, ticket.facts['platform'])
          return (
            <li key={id} className="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-hair py-1">
              <span className="w-48 text-m max-sm:w-full">{words.name}</span>
              <span className="flex flex-wrap gap-1.5">
                {words.outcomes.map((outcome) => (
                  <button
                    key={outcome} type="button" aria-pressed={said[id] === outcome} onClick={() => answer(id, outcome)}
                    className="touch min-h-10 rounded border border-line bg-sheet px-2.5 text-m aria-pressed:border-ink aria-pressed:bg-ink aria-pressed:text-paper"
                  >
                    {lowerFirst(words.say[outcome] ?? outcome)}
                  </button>
                ))}
              </span>
            </li>
          )
        })}
      </ul>
    </section>
  )
}
