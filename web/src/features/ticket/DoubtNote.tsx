import type { TapeEntry, Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { describe } from './describe'

interface DoubtNoteProps {
  doubt: Ticket['doubts'][number]
  tape: readonly TapeEntry[]
  onUndo: (places: readonly number[]) => void
}

/** Entries that do not fit together: why, and which of them is taken back by key; the other by tap. */
export function DoubtNote({ doubt, tape, onUndo }: DoubtNoteProps) {
  const { move, words } = useWords()
  const title = (place: number) => {
    const entry = tape.find((e) => e.place === place)
    return entry ? describe(entry, move, words).title : ''
  }
  const worse = doubt.take_back
  const others = worse === null ? [] : doubt.entries.filter((place) => place !== worse)
  return (
    <div role="note" className="border-l-4 border-ochre bg-sheet px-2 py-1">
      <p className="text-m"><span className="font-semibold">{worse === null ? T.doubtAlone : others.length > 0 ? T.doubtTitle : T.doubtOne}.</span> {doubt.why}</p>
      {worse !== null && <div className="flex flex-wrap items-center gap-x-3">
        <Do of="ticket" id="takeBack" label={T.takeBackEntry(title(worse))} strong />
        {others.map((place) => (
          <button key={place} type="button" onClick={() => onUndo([place])} className="touch min-h-9 px-1 text-m text-indigo">{T.takeBackEntry(title(place))}</button>
        ))}
      </div>}
    </div>
  )
}
