import type { Settings, Ticket, Trial } from '../../api/client'
import { useWords } from '../../api/words'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { rowOfFix, valueName } from './sheet'

interface TrialPanelProps {
  ticket: Ticket
  sheet: Settings
  trial: Trial
  onOutcome: (outcome: string) => void
}

/** A changed setting: what it was, what it is now, and what the machine does with it. One at a time. */
export function TrialPanel({ ticket, sheet, trial, onOutcome }: TrialPanelProps) {
  const { move } = useWords()
  const row = rowOfFix(sheet, trial.fix)
  const fix = move(trial.fix, ticket.facts['platform'])
  const name = (value: string | null) => (row && value ? valueName(row, value) : T.before)
  const walk = trial.walk && row ? sheet.walks.find((w) => w.row === row.id) : undefined
  const isPending = trial.standing === 'pending'
  return (
    <section aria-label={fix.name} className="mb-3 border-l-[5px] border-ochre bg-sheet px-4 py-3">
      <h2 className="text-xl font-bold">{T.onTrial(row?.name ?? fix.name, name(trial.before), name(trial.after))}</h2>
      <p className="mb-2 text-m text-soft">
        {isPending ? T.onTrialAsk : T.putBackWhy}
        {walk && <> {walk.next || isPending ? T.walkOn(walk.tried.map(name).join(', '), name(walk.restore)) : T.walkDone(name(walk.restore))}</>}
      </p>
      {isPending && (
        <div className="flex flex-wrap gap-2">
          {fix.outcomes.map((outcome, index) => (
            <button key={outcome} type="button" onClick={() => onOutcome(outcome)} className="flex min-h-12 items-center gap-2.5 rounded-lg border border-line px-3 text-l">
              <span className="text-xl text-indigo">{index + 1}</span>{fix.say[outcome]}
            </button>
          ))}
        </div>
      )}
      <p className="mt-1 flex flex-wrap gap-x-4">
        {!isPending && walk?.next && <Do of="settings" id="change" label={T.tryNext(name(walk.next))} strong />}
        <Do of="settings" id="putBack" label={`${T.putBackKey}: ${name(trial.before)}`} strong={!isPending && !walk?.next} />
      </p>
    </section>
  )
}
