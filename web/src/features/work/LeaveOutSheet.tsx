import { useState, type FormEvent } from 'react'

import type { WorkStep } from '../../api/client'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

/** A step is left out with a written reason, never silently. */
export function LeaveOutSheet({ step, onLeaveOut, onClose }: { step: WorkStep; onLeaveOut: (reason: string) => void; onClose: () => void }) {
  const [reason, setReason] = useState('')
  const submit = (event?: FormEvent) => {
    event?.preventDefault()
    if (reason.trim()) onLeaveOut(reason.trim())
  }
  return (
    <Sheet title={T.leaveOutTitle(step.name)} isOpen onClose={onClose}>
      {step.guard && <p className="mb-3 border-l-4 border-ochre bg-sheet px-3 py-2 text-m">{step.guard}</p>}
      <form onSubmit={submit}>
        <label className="block">
          <span className="mb-1 block text-m">{T.leaveOutAsk}</span>
          <textarea
            autoFocus required rows={3} maxLength={400} value={reason} onChange={(e) => setReason(e.target.value)}
            onKeyDown={(e) => { if (e.key === 'Enter' && !e.shiftKey) { e.preventDefault(); submit() } }} className="w-full rounded border border-line bg-sheet px-3 py-2 text-l"
          />
        </label>
        <button type="submit" disabled={!reason.trim()} className="mt-3 min-h-12 rounded bg-indigo px-5 text-l font-semibold text-paper disabled:opacity-50">{T.leaveOutDo}</button>
      </form>
    </Sheet>
  )
}
