import type { NextMove, Suspect, Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { clock, factor, lowerFirst, percent } from '../../lib/format'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'
import { describe } from './describe'

interface WhySheetProps {
  ticket: Ticket
  onClose: () => void
  onEntry: (place: number) => void
}

/** One suspect with every entry that moved its odds, strongest first; each leads to its place on the tape. */
function Case({ ticket, suspect, onEntry }: { ticket: Ticket; suspect: Suspect; onEntry: (place: number) => void }) {
  const { fault, move, words } = useWords()
  return (
    <li className="border-b border-hair py-2.5">
      <div className="mb-1.5 flex items-baseline justify-between gap-3 text-m font-semibold">
        <span>{fault(suspect.fault)}</span>
        <span className="shrink-0">{percent(suspect.p)}</span>
      </div>
      {(suspect.weights ?? []).length === 0 && <p className="text-s text-soft">{T.nothingSpoke}</p>}
      {(suspect.weights ?? []).map((w) => {
        const entry = ticket.tape[w.entry]
        if (!entry) return null
        const said = describe(entry, move, words)
        const isFor = w.factor > 1
        return (
          <button
            key={w.entry} type="button" onClick={() => onEntry(w.entry)}
            className="touch grid min-h-9 w-full grid-cols-[46px_minmax(0,1fr)_64px] items-center gap-2 text-s hover:bg-mat sm:grid-cols-[46px_minmax(0,1fr)_150px_64px]"
          >
            <span className="text-soft">{clock(entry.made_at)}</span>
            <span className="truncate"><span className="text-indigo">{said.title}</span>{said.detail && <span className="text-soft"> · {lowerFirst(said.detail)}</span>}</span>
            <span className="text-soft max-sm:hidden">{T.strength(isFor ? w.factor : 1 / w.factor)} {isFor ? T.speaksForIt : T.speaksAgainst}</span>
            <span className={`text-right font-semibold ${isFor ? 'text-ochre-ink' : 'text-pine'}`}>{factor(w.factor)}</span>
          </button>
        )
      })}
    </li>
  )
}

/** What a next move would tell: the suspects it separates, and for each outcome who leads then. */
function Telling({ next }: { next: NextMove }) {
  const { fault, move } = useWords()
  const made = move(next.move)
  const [one, other] = next.separates
  return (
    <li className="border-b border-hair py-2.5">
      <div className="text-m"><strong>{made.name}</strong>{one && other && <span className="text-soft">, {T.separates(lowerFirst(fault(one)), lowerFirst(fault(other)))}</span>}</div>
      <ul className="mt-1 grid gap-x-4 text-s text-soft sm:grid-cols-2">
        {next.outlook.filter((o) => o.p >= 0.01).map((o) => (
          <li key={o.outcome} className="truncate"><span className="text-ink">{made.say[o.outcome]}</span> {T.outcomeLeaves(percent(o.p), lowerFirst(fault(o.leaves)), percent(o.leaves_p))}</li>
        ))}
      </ul>
    </li>
  )
}

/** The whole reasoning, unfolded: suspects with their weights of evidence, and what the next moves would do to them. */
export function WhySheet({ ticket, onClose, onEntry }: WhySheetProps) {
  const telling = ticket.next.filter((n) => n.outlook.length > 0).slice(0, 5)
  return (
    <Sheet title={T.whyTitle} isOpen onClose={onClose} wide>
      <p className="-mt-3 mb-2 text-s text-soft">{T.whyHint}</p>
      <ol>{ticket.suspects.map((s) => <Case key={s.fault} ticket={ticket} suspect={s} onEntry={onEntry} />)}</ol>
      {telling.length > 0 && <h3 className="mb-1 mt-5 text-s font-bold text-soft">{T.nextTells}</h3>}
      <ol>{telling.map((n) => <Telling key={n.move} next={n} />)}</ol>
    </Sheet>
  )
}
