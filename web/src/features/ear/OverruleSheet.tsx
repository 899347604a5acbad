import { useState, type FormEvent } from 'react'

import type { Recording } from '../../api/earQueries'
import { useWords } from '../../api/words'
import { SHEET_KEYS } from '../../lib/keymap'
import { Commands } from '../../ui/Commands'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface OverruleSheetProps {
  recording: Recording
  move: string
  onOverrule: (outcome: string, reason: string) => void
  onClose: () => void
}

/** What it was instead of what was heard, and why: the heard entry is taken back, the typed one stands with its reason. */
export function OverruleSheet({ recording, move, onOverrule, onClose }: OverruleSheetProps) {
  const words = useWords().move(move)
  const [outcome, setOutcome] = useState<string | null>(null)
  const [reason, setReason] = useState('')
  const others = words.outcomes.filter((o) => o !== recording.outcome)
  const handleSubmit = (event: FormEvent) => {
    event.preventDefault()
    if (outcome && reason.trim()) onOverrule(outcome, reason.trim())
  }
  return (
    <Commands page="stepPicker" on={{}} targets={others.map((o) => () => setOutcome(o))} targetKeys={SHEET_KEYS} isOn={outcome === null}>
      <Sheet title={T.earOverruleTitle(recording.verdict)} isOpen onClose={onClose} calm>
        <p className="-mt-3 mb-3 text-s text-soft">{T.earOverruleHint}</p>
        <ul className="grid gap-1.5">
          {others.map((o, index) => (
            <li key={o}>
              <button type="button" aria-pressed={o === outcome} onClick={() => setOutcome(o)} className={`flex min-h-12 w-full items-center gap-4 rounded-lg border bg-sheet px-3.5 text-left ${o === outcome ? 'border-indigo' : 'border-line'}`}>
                <span className="w-4 text-center text-xl text-indigo">{outcome === null ? SHEET_KEYS[index] : ''}</span>
                <span className={`text-m ${o === outcome ? 'font-bold' : ''}`}>{words.say[o]}</span>
              </button>
            </li>
          ))}
        </ul>
        {outcome && (
          <form onSubmit={handleSubmit} className="mt-4">
            <label className="block">
              <span className="mb-1 block text-m">{T.earOverruleWhy}</span>
              <textarea
                autoFocus required rows={2} maxLength={300} value={reason} onChange={(e) => setReason(e.target.value)}
                onKeyDown={(e) => { if (e.key === 'Enter' && !e.shiftKey) handleSubmit(e) }} className="w-full rounded border border-line bg-sheet px-3 py-2 text-l"
              />
            </label>
            <button type="submit" disabled={!reason.trim()} className="mt-3 min-h-12 rounded bg-brick px-5 text-l font-semibold text-paper disabled:opacity-50">{T.earOverruleDo}</button>
          </form>
        )}
      </Sheet>
    </Commands>
  )
}
