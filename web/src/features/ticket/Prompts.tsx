import type { Capture, Ticket } from '../../api/client'
import { useCaptures } from '../../api/queries'
import { useWords } from '../../api/words'
import { Do } from '../../ui/Commands'
import { KeyWanted } from '../../ui/KeyWanted'
import { Note } from '../../ui/Note'
import { factName, T } from '../../words'
import { LinkStrip } from '../link'
import { DoubtNote } from './DoubtNote'
import { shownDoubt } from './doubts'
import { Earlier } from './Earlier'

interface PromptsProps {
  ticket: Ticket
  error: Error | null
  isWaiting: boolean
  dropped: Capture | null
  onUndo: (places: readonly number[]) => void
}

/** What has to be known beside the move in hand: a refusal, a dropped file, entries that do not fit together, a trial to put back, a question to ask. */
export function Prompts({ ticket, error, isWaiting, dropped, onUndo }: PromptsProps) {
  const { move } = useWords()
  const { data: captures } = useCaptures(ticket.id, ticket.files.length > 0 && !ticket.closed_at)
  const asked = captures?.[0]?.asks ?? []
  const standing = ticket.trials.filter((t) => t.standing === 'open' || t.standing === 'pending')
  const doubt = shownDoubt(ticket.doubts, ticket.tape, ticket.next)
  return (
    <div className="mb-3 flex flex-col gap-2 empty:mb-0">
      <Earlier ticket={ticket} />
      <LinkStrip id={ticket.id} isClosed={ticket.closed_at !== null} />
      {isWaiting && <Note title={T.waiting} tone="ochre" />}
      {error && <Note title={T.notKept}>{error.message}</Note>}
      {dropped && (
        <Note title={`${T.kept}: ${dropped.name}`} tone={dropped.weighed !== null ? 'pine' : 'ochre'}>
          {dropped.weighed != null
            ? dropped.devices.find((d) => d.device === dropped.weighed)?.verdict
            : dropped.devices.length > 1 ? T.pickDrive : dropped.devices[0]?.verdict}{' '}
          <Do of="ticket" id="pages" />
        </Note>
      )}
      {asked.length > 0 && <Note title={T.pickDrive} tone="ochre">{T.whichDrive(asked.join(', '))} <Do of="ticket" id="pages" /></Note>}
      {!ticket.closed_at && doubt && <DoubtNote doubt={doubt} tape={ticket.tape} onUndo={onUndo} />}
      {standing.map((trial) => (
        <div key={trial.entry} className="flex flex-wrap items-center gap-x-3 border-l-4 border-ochre bg-sheet px-2 py-1">
          <Do of="ticket" id="putBack" label={T.putBack(move(trial.fix).name)} strong />
          <span className="text-m text-soft">{trial.standing === 'pending' ? T.pendingWhy : T.putBackWhy}</span>
        </div>
      ))}
      {ticket.questions.slice(0, 1).map((question) => (
        <div key={question.fact} className="flex flex-wrap items-center gap-x-3 border-l-4 border-ochre bg-sheet px-2 py-1">
          <Do of="ticket" id="facts" label={`${T.askCustomer}: ${factName(question.fact).toLowerCase()}`} strong />
          <span className="text-m text-soft">{question.why}</span>
          {question.fact === 'recovery_key' && <KeyWanted ticket={ticket.id} />}
        </div>
      ))}
    </div>
  )
}
