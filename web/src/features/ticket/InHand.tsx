import type { EntryBody, NextMove, Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { clock, lowerFirst, minutes, percent } from '../../lib/format'
import { TARGET_KEYS } from '../../lib/hotkeys'
import { useProgress } from '../../lib/running'
import { Key, KeyAction } from '../../ui/Key'
import { T } from '../../words'
import { KeyStrip } from '../keys'

interface InHandProps {
  ticket: Ticket
  moveId: string | null
  isChosen: boolean
  onOutcome: (outcome: string) => void
  onElse: () => void
  onStart: () => void
  /** The instrument that answers this move together with others, if there is one. */
  instrument: { hotkey: string; label: string; open: () => void } | null
  keysOn: boolean
  onTried: (entry: EntryBody) => void
}

function Effort({ next, moveId }: { next: NextMove | undefined; moveId: string }) {
  const { move } = useWords()
  const words = move(moveId)
  const handsOn = next?.hands_on_minutes ?? words.minutes
  return (
    <p className="mb-4 flex flex-wrap gap-x-5 text-m text-soft">
      <span>{minutes(handsOn)} {T.handsOn}</span>
      {words.unattended >= 3 && <span>{minutes(words.unattended)} {T.onItsOwn}</span>}
      {!next && <span>{T.notNow}</span>}
    </p>
  )
}

function Targets({ moveId, platform, next, onOutcome }: { moveId: string; platform: unknown; next: NextMove | undefined; onOutcome: (outcome: string) => void }) {
  const { move, fault } = useWords()
  const words = move(moveId, platform)
  const many = words.outcomes.length > 8
  return (
    <div className={`grid gap-2 ${many ? 'grid-cols-3' : 'grid-cols-2'}`}>
      {words.outcomes.map((outcome, index) => {
        const after = next?.outlook.find((o) => o.outcome === outcome)
        return (
          <button
            key={outcome} type="button" onClick={() => onOutcome(outcome)}
            className={`flex items-center gap-3 rounded-lg border border-line bg-sheet px-3.5 ${many ? 'min-h-14 py-1' : 'min-h-16 py-2'}`}
          >
            <span className="w-5 shrink-0 text-center text-xl text-indigo">{TARGET_KEYS[index]}</span>
            <span className="min-w-0">
              <span className={`block ${many ? 'text-m leading-5' : 'text-l'}`}>{words.say[outcome]}</span>
              {!many && after && after.leaves_p >= 0.15 && (
                <span className="block truncate text-s text-soft">{T.then} {lowerFirst(fault(after.leaves))} {percent(after.leaves_p)}</span>
              )}
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
    <div className="mb-4">
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
export function InHand({ ticket, moveId, isChosen, onOutcome, onElse, onStart, instrument, keysOn, onTried }: InHandProps) {
  const { move } = useWords()
  if (!moveId) {
    return (
      <section aria-label={T.inHand}>
        <h2 className="mb-2 text-s font-bold text-soft">{T.inHand}</h2>
        <p className="text-xxl font-bold">{ticket.closed_at ? T.handedOver : T.nothingLeft}</p>
        {!ticket.closed_at && <p className="mt-2 text-l text-soft">{T.nothingLeftHint}</p>}
        <p className="mt-4"><KeyAction hotkey="E" label={T.somethingElse} onPress={onElse} /></p>
      </section>
    )
  }
  const words = move(moveId, ticket.facts['platform'])
  const next = ticket.next.find((n) => n.move === moveId)
  const others = ticket.next.filter((n) => n.move !== moveId)
  const canRun = words.unattended >= 10 && ticket.running?.move !== moveId
  return (
    <section aria-label={T.inHand}>
      <h2 className="mb-2 text-s font-bold text-soft">{T.inHand}{isChosen && ` · ${T.chosen}`}</h2>
      <RunningLine ticket={ticket} />
      <h1 className="mb-2 text-xxl font-bold">{words.name}</h1>
      <p className="mb-2 max-w-[62ch] text-l">{words.ask} <span className="text-soft">{next?.why ?? words.why}</span></p>
      <Effort next={next} moveId={moveId} />
      <KeyStrip
        key={moveId} ticket={ticket} moveId={moveId} isOn={keysOn} onTried={onTried}
        onReached={words.outcomes.includes('reached') ? () => onOutcome('reached') : null}
      />
      <Targets moveId={moveId} platform={ticket.facts['platform']} next={next} onOutcome={onOutcome} />
      <div className="mt-3 flex flex-wrap items-center gap-x-5 gap-y-1 text-m text-soft">
        <KeyAction hotkey="E" label={T.somethingElse} onPress={onElse} />
        {instrument && <KeyAction hotkey={instrument.hotkey} label={instrument.label} onPress={instrument.open} strong />}
        {canRun && <KeyAction hotkey="R" label={T.start} onPress={onStart} />}
        {isChosen && <span><Key>Esc</Key> {T.best.toLowerCase()}</span>}
        {others.length > 0 && (
          <span className="min-w-0 truncate">{T.moreMoves(others.length)}: {others.slice(0, 3).map((o) => lowerFirst(move(o.move).name)).join(', ')}</span>
        )}
      </div>
    </section>
  )
}
