import { useState, type KeyboardEvent } from 'react'

import type { Held, Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { minutes } from '../../lib/format'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'
import { moveLines, type Line } from './moveLines'

interface MovePickerProps {
  ticket: Ticket
  gate: string | null
  onPick: (move: string) => void
  onHeld: (held: Held) => void
  onClose: () => void
  /** The instrument that is opened from this gate. */
  instrument: { label: string; open: () => void } | null
}

export function MovePicker({ ticket, gate, onPick, onHeld, onClose, instrument }: MovePickerProps) {
  const { words, gate: gateName } = useWords()
  const [text, setText] = useState('')
  const [at, setAt] = useState(0)
  const found = moveLines(ticket, words.moves, gate, text)
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
        autoFocus role="combobox" aria-expanded aria-controls="moves" aria-activedescendant={found[at] ? `move-${found[at].words.id}` : undefined} aria-label={T.searchMoves} placeholder={T.searchMoves} value={text}
        onChange={(e) => { setText(e.target.value); setAt(0) }} onKeyDown={handleKey}
        className="mb-3 w-full rounded border border-line bg-sheet px-3 py-2 text-l"
      />
      {found.length === 0 && <p className="text-m text-soft">{T.noMatch}</p>}
      <ul id="moves" role="listbox" aria-label={T.searchMoves}>
        {found.map((line, index) => (
          <li
            key={line.words.id} id={`move-${line.words.id}`} role="option" aria-selected={index === at} onClick={() => choose(line)}
            ref={(node) => { if (index === at) node?.scrollIntoView({ block: 'nearest' }) }}
            className={`touch block cursor-pointer border-b border-hair px-2 py-2 ${index === at ? 'bg-mat' : ''} ${line.held ? 'border-l-4 border-l-brick' : ''}`}
          >
            <span className="flex items-baseline justify-between gap-3">
              <span className={`text-m ${line.isNext ? 'font-semibold text-indigo' : line.held ? 'text-soft' : 'text-ink'}`}>{line.words.name}</span>
              <span className="shrink-0 text-s text-soft">{minutes(line.words.minutes + line.words.unattended)}</span>
            </span>
            <span className="block text-s text-soft">{line.held ? `${T.heldBack}: ${line.held.why}` : line.words.ask}</span>
          </li>
        ))}
      </ul>
    </Sheet>
  )
}
