import { TARGET_KEYS } from '../../lib/keymap'
import { Commands } from '../../ui/Commands'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

const REASONS = ['declined', 'not-worth', 'cannot-wait', 'lab-declined', 'refused'] as const

/** The machine goes back as it is, whatever it has: why. It is signed like any verdict, and needs no further start. */
export function AsIsSheet({ onReason, onClose }: { onReason: (reason: string) => void; onClose: () => void }) {
  return (
    <Commands page="stepPicker" on={{}} targets={REASONS.map((reason) => () => onReason(reason))}>
      <Sheet title={T.returnAsIsTitle} isOpen onClose={onClose}>
        <p className="-mt-3 mb-3 text-s text-soft">{T.returnAsIsHint}</p>
        <div className="grid gap-2">
          {REASONS.map((reason, index) => (
            <button key={reason} type="button" data-reason={reason} onClick={() => onReason(reason)} className="flex min-h-14 items-center gap-3 rounded-lg border border-line bg-sheet px-3.5 text-left text-l">
              <span className="w-5 shrink-0 text-center text-xl text-indigo">{TARGET_KEYS[index]}</span>{T.returnReasons[reason]}
            </button>
          ))}
        </div>
      </Sheet>
    </Commands>
  )
}
