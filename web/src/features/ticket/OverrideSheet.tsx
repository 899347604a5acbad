import { useState, type FormEvent } from 'react'

import type { Held } from '../../api/client'
import { useWords } from '../../api/words'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface OverrideSheetProps {
  held: Held
  onOverride: (reason: string) => void
  onClose: () => void
}

/** Why a move is held, what would release it, and a written reason where it is right all the same. */
export function OverrideSheet({ held, onOverride, onClose }: OverrideSheetProps) {
  const { move } = useWords()
  const [reason, setReason] = useState('')
  const handleSubmit = (event: FormEvent) => {
    event.preventDefault()
    if (reason.trim()) onOverride(reason.trim())
  }
  return (
    <Sheet title={T.overrideTitle(move(held.move).name)} isOpen onClose={onClose}>
      <Note title={held.why}>{held.release}</Note>
      <form onSubmit={handleSubmit} className="mt-5">
        <label className="block">
          <span className="mb-1 block text-m">{T.overrideAsk}</span>
          <textarea
            autoFocus required rows={3} value={reason} onChange={(e) => setReason(e.target.value)}
            onKeyDown={(e) => { if (e.key === 'Enter' && !e.shiftKey) handleSubmit(e) }}
            className="w-full rounded border border-line bg-sheet px-3 py-2 text-l"
          />
        </label>
        <button type="submit" disabled={!reason.trim()} className="mt-3 min-h-12 rounded bg-brick px-5 text-l font-semibold text-paper disabled:opacity-50">
          {T.overrideDo}
        </button>
      </form>
    </Sheet>
  )
}
