import { memo } from 'react'

import type { TapeEntry, Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { clock } from '../../lib/format'
import { T } from '../../words'
import { describe } from './describe'

interface TapeProps {
  ticket: Ticket
  onUndo: (place: number) => void
}

/** One line of the tape; it is drawn again only when the entry itself changes. */
const TapeLine = memo(function TapeLine({ entry, isClosed, onUndo }: { entry: TapeEntry; isClosed: boolean; onUndo: (place: number) => void }) {
  const { move, words } = useWords()
  const said = describe(entry, move, words)
  return (
    <li id={`entry-${entry.place}`} className="flex gap-2 border-b border-hair py-2 text-s data-shown:bg-mat">
      <span className="shrink-0 text-soft">{clock(entry.made_at)}</span>
      <span className={`min-w-0 flex-1 ${entry.stands ? '' : 'text-soft line-through'}`}>
        <span className="font-semibold">{said.title}</span>
        {said.detail && <span className="block break-words text-soft">{said.detail}</span>}
        {!entry.counts && entry.stands && 'move' in entry.body && <span className="block text-soft italic">{T.sameAgain}</span>}
      </span>
      {entry.stands && !isClosed && !('undo' in entry.body) && (
        <button type="button" onClick={() => onUndo(entry.place)} aria-label={`${T.undo}: ${said.title}`} className="-my-2 min-h-9 shrink-0 px-1 text-indigo">
          {T.undo}
        </button>
      )}
    </li>
  )
})

/** What was done, newest first; every line can be taken back. */
export const Tape = memo(function Tape({ ticket, onUndo }: TapeProps) {
  const newest = [...ticket.tape].reverse()
  return (
    <section aria-label={T.tape} className="h-full overflow-y-auto border-r border-dashed border-line bg-sheet px-5 py-4">
      <h2 className="mb-1 text-s font-bold text-soft">{T.tape}</h2>
      <ol>
        {newest.map((entry) => <TapeLine key={entry.place} entry={entry} isClosed={ticket.closed_at !== null} onUndo={onUndo} />)}
        <li className="flex gap-2 py-2 text-s">
          <span className="text-soft">{clock(ticket.opened_at)}</span>
          <span>
            {T.takenInBy(ticket.opened_by)}
            {ticket.words && <span className="block text-soft">“{ticket.words}”</span>}
          </span>
        </li>
      </ol>
    </section>
  )
})

/** Brings an entry into sight and marks it for a moment. */
export function showEntry(place: number): void {
  requestAnimationFrame(() => {
    const line = document.getElementById(`entry-${place}`)
    line?.scrollIntoView({ block: 'center' })
    line?.setAttribute('data-shown', '')
    setTimeout(() => line?.removeAttribute('data-shown'), 2500)
  })
}
