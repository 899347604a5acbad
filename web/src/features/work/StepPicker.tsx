import type { Work } from '../../api/client'
import { SHEET_KEYS } from '../../lib/keymap'
import { Commands } from '../../ui/Commands'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

/** Other steps of the job: those that nothing forbids may be taken now. */
export function StepPicker({ work, onPick, onClose }: { work: Work; onPick: (step: string) => void; onClose: () => void }) {
  const later = work.steps.filter((s) => s.state === 'later')
  const free = later.filter((s) => s.may_lead)
  return (
    <Commands page="stepPicker" on={{}} targets={free.map((s) => () => onPick(s.id))} targetKeys={SHEET_KEYS}>
      <Sheet title={T.whichStep} isOpen onClose={onClose} wide>
        <p className="-mt-3 mb-3 text-s text-soft">{T.whichStepHint}</p>
        <ul className="grid gap-1">
          {later.map((step) => {
            const place = free.indexOf(step)
            return (
              <li key={step.id}>
                <button type="button" disabled={place < 0} onClick={() => onPick(step.id)} className="flex min-h-11 w-full items-center gap-4 rounded-lg border border-line bg-sheet px-3.5 disabled:border-hair disabled:bg-transparent disabled:text-soft">
                  <span className="w-4 text-center text-xl text-indigo">{place >= 0 ? SHEET_KEYS[place] : ''}</span>
                  <span className="flex-1 text-m font-semibold">{step.name}</span>
                  <span className="text-s text-soft">{work.phases[step.phase]}</span>
                </button>
              </li>
            )
          })}
        </ul>
      </Sheet>
    </Commands>
  )
}
