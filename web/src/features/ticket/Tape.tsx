import { memo } from 'react'

import type { TapeEntry, Ticket } from '../../api/client'
import { recordingUrl } from '../../api/earQueries'
import { useWords } from '../../api/words'
import { clock } from '../../lib/format'
import { play } from '../../lib/playing'
import { T } from '../../words'
import { describe } from './describe'
import { leadingEntry, tapeLines } from './tapeLines'

interface TapeProps {
  ticket: Ticket
  onUndo: (places: readonly number[]) => void
}

interface LineProps {
  ticketId: number
  isClosed: boolean
  onUndo: (places: readonly number[]) => void
}

/** One entry of the tape; it is drawn again only when the entry itself changes. */
const EntryLine = memo(function EntryLine({ entry, ticketId, isClosed, onUndo }: LineProps & { entry: TapeEntry }) {
  const { move, words } = useWords()
  const said = describe(entry, move, words)
  return (
    <li id={`entry-${entry.place}`} className="flex gap-2 border-b border-hair py-2 text-s data-shown:bg-mat">
      <span className="shrink-0 text-soft">{clock(entry.made_at)}</span>
      <span className={`min-w-0 flex-1 ${entry.stands ? '' : 'text-soft line-through'}`}>
        <span className="font-semibold">{said.title}</span>
        {typeof entry.body['picture'] === 'string' && entry.stands && (
          <img src={`/api/tickets/${ticketId}/pictures/${entry.body['picture']}`} alt={said.detail || said.title} loading="lazy" className="my-1 max-h-40 max-w-full rounded border border-hair" />
        )}
        {said.detail && <span className="block break-words text-soft">{said.detail}</span>}
        {!entry.counts && entry.stands && 'move' in entry.body && <span className="block text-soft italic">{T.sameAgain}</span>}
      </span>
      {entry.stands && !isClosed && !('undo' in entry.body) && (
        <button type="button" onClick={() => onUndo([entry.place])} aria-label={`${T.undo}: ${said.title}`} className="touch -my-2 min-h-9 shrink-0 px-1 text-center text-indigo">
          {T.undo}
        </button>
      )}
    </li>
  )
})

/** A whole reading as one line that opens to its entries, so that it does not push the technician's own off the screen. */
function ReadingLine({ name, entries, ticketId, isClosed, onUndo }: LineProps & { name: string; entries: readonly TapeEntry[] }) {
  const { move, words } = useWords()
  const first = leadingEntry(entries)
  const said = first ? describe(first, move, words) : null
  const standing = entries.filter((e) => e.stands).map((e) => e.place)
  return (
    <li data-reading className="border-b border-hair py-2 text-s">
      <details>
        <summary className="flex cursor-pointer list-none gap-2">
          <span className="shrink-0 text-soft">{first && clock(first.made_at)}</span>
          <span className={`min-w-0 flex-1 ${standing.length > 0 ? '' : 'text-soft line-through'}`}>
            <span className="font-semibold">{said?.title}</span>
            <span className="block break-words text-soft">{first?.note}</span>
            <span className="block break-words text-indigo">{T.readingOf(name, entries.length)}</span>
          </span>
        </summary>
        <ol className="ml-2 border-l border-hair pl-2">
          {entries.map((entry) => <EntryLine key={entry.place} ticketId={ticketId} entry={entry} isClosed={isClosed} onUndo={onUndo} />)}
        </ol>
        {!isClosed && standing.length > 1 && (
          <button type="button" onClick={() => onUndo(standing)} aria-label={`${T.undoAll}: ${name}`} className="touch min-h-9 px-1 text-indigo">{T.undoAll}</button>
        )}
      </details>
      {isHeard(entries) && <button type="button" onClick={() => play(recordingUrl(ticketId, entries[0]!.from_file!))} aria-label={`${T.tapePlay}: ${name}`} className="touch min-h-9 px-1 text-indigo">{T.tapePlay}</button>}
    </li>
  )
}

/** Does it rest on a sound that was recorded? */
function isHeard(entries: readonly TapeEntry[]): boolean {
  const restsOn = entries[0]?.body['rests_on'] as { device?: unknown; name?: unknown } | undefined
  return restsOn?.device === 'ear' && !String(restsOn.name).toLowerCase().endsWith('.csv')
}

/** What was done, newest first; every line can be taken back. */
export const Tape = memo(function Tape({ ticket, onUndo }: TapeProps) {
  const isClosed = ticket.closed_at !== null
  return (
    <section aria-label={T.tape} className="min-h-full bg-sheet px-4 py-3 xl:px-5 xl:py-4">
      <h2 className="mb-1 text-s font-bold text-soft">{T.tape}</h2>
      <ol>
        {tapeLines(ticket.tape).map((line) =>
          line.kind === 'entry'
            ? <EntryLine key={line.entry.place} ticketId={ticket.id} entry={line.entry} isClosed={isClosed} onUndo={onUndo} />
            : <ReadingLine key={`${line.file}-${line.entries[0]?.place ?? 0}`} name={line.name} ticketId={ticket.id} entries={line.entries} isClosed={isClosed} onUndo={onUndo} />,
        )}
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

/** Brings an entry into sight, opening the reading it stands in, and marks it for a moment. */
export function showEntry(place: number): void {
  requestAnimationFrame(() => {
    const line = document.getElementById(`entry-${place}`)
    line?.closest('details')?.setAttribute('open', '')
    line?.scrollIntoView({ block: 'center', inline: 'start' })
    line?.setAttribute('data-shown', '')
    setTimeout(() => line?.removeAttribute('data-shown'), 2500)
  })
}
