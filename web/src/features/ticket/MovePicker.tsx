import { useState, type KeyboardEvent } from 'react'

import type { Held, MoveWords, Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { minutes } from '../../lib/format'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface MovePickerProps {
  ticket: Ticket
  gate: string | null
  onPick: (move: string) => void
  onHeld: (held: Held) => void
  onClose: () => void
  /** The instrument that is opened from this gate. */
  instrument: { label: string; open: () => void } | null
}

interface Line {
  words: MoveWords
  held: Held | undefined
  isNext: boolean
}

/** All moves: those worth making first, then the held ones with their reason, then the rest; typing narrows them. */
function lines(ticket: Ticket, all: MoveWords[], gate: string | null, text: string): Line[] {
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

export function MovePicker({ ticket, gate, onPick, onHeld, onClose, instrument }: MovePickerProps) {
  const { words, gate: gateName } = useWords()
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const found = lines(ticket, words.moves, gate, text)
  const choose = (line: Line | undefined) => {
    if (!line) return
    if (line.held) onHeld(line.held)
    else onPick(line.words.id)
  }
  const handleKey = (event: KeyboardEvent) => {
    if (event.key === 'ArrowDown') setAt(Math.min(found.length - 1, at + 1))
    else if (event.key === 'ArrowUp') setAt(Math.max(0, at - 1))
    else if (event.key === 'Enter') choose(found[at])
    else return
    event.preventDefault()
  }
  return (
    <Sheet title={gate ? gateName(gate) : T.somethingElseTitle} isOpen onClose={onClose}>
      {gate && <p className="-mt-3 mb-3 text-m text-soft">{ticket.gates.find((g) => g.id === gate)?.why}</p>}
      {instrument && (
        <p className="-mt-2 mb-3"><button type="button" onClick={instrument.open} className="min-h-9 text-m font-semibold text-indigo underline underline-offset-4">{instrument.label}</button></p>
      )}
      <input
        autoFocus role="combobox" aria-expanded aria-controls="moves" aria-label={T.searchMoves} placeholder={T.searchMoves} value={text}
        onChange={(e) => { setText(e.target.value); setAt(0) }} onKeyDown={handleKey}
        className="mb-3 w-full rounded border border-line bg-sheet px-3 py-2 text-l"
      />
      {found.length === 0 && <p className="text-m text-soft">{T.noMatch}</p>}
      <ol id="moves" role="listbox" aria-label={T.searchMoves}>
        {found.map((line, index) => (
          <li key={line.words.id} role="option" aria-selected={index === at}>
            <button
              type="button" tabIndex={-1} onClick={() => choose(line)}
              ref={(node) => { if (index === at) node?.scrollIntoView({ block: 'nearest' }) }}
              className={`block w-full border-b border-hair px-2 py-2 ${index === at ? 'bg-mat' : ''} ${line.held ? 'border-l-4 border-l-brick' : ''}`}
            >
              <span className="flex items-baseline justify-between gap-3">
                <span className={`text-m ${line.isNext ? 'font-semibold text-indigo' : line.held ? 'text-soft' : 'text-ink'}`}>{line.words.name}</span>
                <span className="shrink-0 text-s text-soft">{minutes(line.words.minutes + line.words.unattended)}</span>
              </span>
              <span className="block text-s text-soft">{line.held ? `${T.heldBack}: ${line.held.why}` : line.words.ask}</span>
            </button>
          </li>
        ))}
      </ol>
    </Sheet>
  )
}
