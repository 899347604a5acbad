import type { EntryBody, NextMove, Ticket } from '../../api/client'
import { useLink } from '../../api/queries'
import { useWords } from '../../api/words'
import { clock, lowerFirst, minutes, percent } from '../../lib/format'
import { TARGET_KEYS, type CommandId, type ToolId } from '../../lib/keymap'
import { useProgress } from '../../lib/running'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { KeyStrip } from '../keys'
import { SameVisit } from './SameVisit'
import { shownDoubt } from './doubts'

const MANY = 8
/** tools that read the machine themselves, once it is connected */
const READS_BY_ITSELF = new Set<string>(['pages', 'surface', 'path', 'volume', 'records'])
const WORTH_SAYING = 0.15

interface InHandProps {
  ticket: Ticket
  moveId: string | null
  isChosen: boolean
  onOutcome: (outcome: string) => void
  /** The instrument that answers this move together with others, if there is one. */
  instrument: CommandId<'ticket'> | null
  keysOn: boolean
  onTried: (entry: EntryBody) => void
  /** Answers another look of the same visit. */
  onAnswer: (move: string, outcome: string) => void
}

function Effort({ next, moveId }: { next: NextMove | undefined; moveId: string }) {
  const { move } = useWords()
  const words = move(moveId)
  const handsOn = next?.hands_on_minutes ?? words.minutes
  return (
    <p className="mb-3 flex flex-wrap gap-x-5 text-m text-soft">
      <span>{minutes(handsOn)} {T.handsOn}</span>
      {words.unattended >= 3 && <span>{minutes(words.unattended)} {T.onItsOwn}</span>}
      {!next && <span>{T.notNow}</span>}
    </p>
  )
}

/** keys of one sign: with more outcomes, some have two */
const DIGITS = 10

/** The outcomes as numbered targets: they share the room there is, and none is smaller than a finger. */
function Targets({ moveId, platform, next, isTight, onOutcome }: { moveId: string; platform: unknown; next: NextMove | undefined; isTight: boolean; onOutcome: (outcome: string) => void }) {
  const { move, fault } = useWords()
  const words = move(moveId, platform)
  const many = words.outcomes.length > MANY
  return (
    <div className={`grid gap-2 ${many ? 'grid-cols-2 gap-1.5 sm:grid-cols-3' : 'sm:grid-cols-2'}`}>
      {words.outcomes.map((outcome, index) => {
        const after = next?.outlook.find((o) => o.outcome === outcome)
        return (
          <button
            key={outcome} type="button" data-outcome={outcome} onClick={() => onOutcome(outcome)}
            title={after && after.leaves_p >= WORTH_SAYING ? `${T.then} ${lowerFirst(fault(after.leaves))} ${percent(after.leaves_p)}` : undefined}
            className={`flex items-center rounded-lg border border-line bg-sheet ${many ? 'min-h-12 gap-2 px-2 py-0.5 sm:gap-3 sm:px-3' : `gap-3 px-3.5 ${isTight ? 'min-h-14 py-0.5' : 'min-h-14 py-1 xl:min-h-16'}`}`}
          >
            <span className={`shrink-0 text-center text-xl text-indigo ${words.outcomes.length > DIGITS ? 'w-8' : 'w-5'}`}>{TARGET_KEYS[index]}</span>
            <span className="min-w-0">
              <span className={`block ${many ? 'text-m leading-[18px]' : 'text-l'}`}>{words.say[outcome]}</span>
            </span>
          </button>
        )
      })}
    </div>
  )
}

function RunningLine({ ticket }: { ticket: Ticket }) {
  const { move } = useWords()
  const progress = useProgress(ticket.running)
  if (!ticket.running) return null
  return (
    <div className="mb-3">
      <p className="text-m">
        <strong>{move(ticket.running.move).name}</strong>, {T.startedAt(clock(ticket.running.started_at))}
        {progress && (progress.minutesLeft > 0 ? ` · ${minutes(progress.minutesLeft)} ${T.left}` : ` · ${T.overdue}`)}
      </p>
      {progress && (
        <div className="mt-1.5 h-2 rounded-full bg-hair"><div className="h-full rounded-full bg-ink moves" style={{ width: `${progress.share * 100}%` }} /></div>
      )}
    </div>
  )
}

/** The one thing to do now, why, and its outcomes as large numbered targets. */
export function InHand({ ticket, moveId, isChosen, onOutcome, instrument, keysOn, onTried, onAnswer }: InHandProps) {
  const { move } = useWords()
  const { data: link } = useLink(ticket.id)
  if (!moveId) {
    return (
      <section aria-label={T.inHand}>
        <h2 className="mb-1 text-s font-bold text-soft">{T.inHand}</h2>
        <p className="text-xl font-bold md:text-xxl">{ticket.closed_at ? T.handedOver : T.nothingLeft}</p>
        {!ticket.closed_at && <p className="mt-2 text-l text-soft">{T.nothingLeftHint}</p>}
        <p className="mt-4"><Do of="ticket" id="else" /></p>
      </section>
    )
  }
  const words = move(moveId, ticket.facts['platform'])
  const isLinked = link?.state === 'linked'
  const next = ticket.next.find((n) => n.move === moveId)
  const others = ticket.next.filter((n) => n.move !== moveId)
  const isTight = words.outcomes.length > MANY || shownDoubt(ticket.doubts, ticket.tape, ticket.next) !== null || ticket.questions.length > 0 || ticket.trials.some((t) => t.standing === 'open' || t.standing === 'pending')
  return (
    <section aria-label={T.inHand}>
      <h2 className="text-s font-bold text-soft">{T.inHand}{isChosen && ` · ${T.chosen}`}</h2>
      <RunningLine ticket={ticket} />
      <h1 className={`mb-1 text-xl font-bold ${isTight ? '' : 'md:text-xxl'}`}>{words.name}</h1>
      <p className={`mb-1.5 max-w-[62ch] ${isTight ? 'text-m' : 'text-m md:text-l'}`}>{words.ask} <span className="text-soft">{next?.why ?? words.why}</span></p>
      <Effort next={next} moveId={moveId} />
      <KeyStrip
        key={moveId} ticket={ticket} moveId={moveId} isOn={keysOn} onTried={onTried}
        onReached={words.outcomes.includes('reached') ? () => onOutcome('reached') : null}
      />
      <Targets moveId={moveId} platform={ticket.facts['platform']} next={next} isTight={isTight} onOutcome={onOutcome} />
      <SameVisit ticket={ticket} moveId={moveId} onAnswer={onAnswer} />
      <div className="mt-2 flex flex-wrap items-center gap-x-5 gap-y-1 text-m text-soft">
        <Do of="ticket" id="else" />
        {instrument && <Do of="ticket" id={instrument} strong label={T.openTool(T.tools[instrument as ToolId])} />}
        {instrument && READS_BY_ITSELF.has(instrument) && !isLinked && <Do of="ticket" id="link" strong label={T.connectFirst} />}
        <Do of="ticket" id="ways" strong />
        <Do of="ticket" id="start" />
        <Do of="ticket" id="note" />
        {isChosen && <Do of="ticket" id="back" label={lowerFirst(T.best)} />}
        {others.length > 0 && (
          <span className="min-w-0 truncate">{T.moreMoves(others.length)}: {others.slice(0, 3).map((o) => lowerFirst(move(o.move).name)).join(', ')}</span>
        )}
      </div>
    </section>
  )
}
