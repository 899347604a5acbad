import { useState } from 'react'

import type { Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { Choice } from '../../ui/Choice'
import { Sheet } from '../../ui/Sheet'
import { factName, factValue, T } from '../../words'

/** What the work after the call asks: no odds hang on it. */
const OF_THE_WORK: Record<string, readonly string[]> = { account: ['local', 'online'], slot_form: ['2.5', '3.5', 'm2'] }
const NUMBERS = ['drive_size_gb', 'used_gb', 'slot_height'] as const
const FIRST = ['data', 'consent', 'recovery_key', 'lock', 'mains', 'drive_kind', 'form', 'installed_os', 'platform']

interface FactsSheetProps {
  ticket: Ticket
  onFact: (fact: Record<string, string | number>) => void
  onClose: () => void
}

/** What is known of the machine and the customer's word. What was changed goes on the tape as one entry when the sheet
 * closes: walking past a value with the arrow keys must not release an interlock on the way. */
export function FactsSheet({ ticket, onFact, onClose }: FactsSheetProps) {
  const { words } = useWords()
  const [changed, setChanged] = useState<Record<string, string | number>>({})
  const handleClose = () => {
    const news = Object.entries(changed).filter(([name, value]) => ticket.facts[name] !== value)
    if (news.length > 0) onFact(Object.fromEntries(news))
    onClose()
  }
  return (
    <Sheet title={T.factsTitle} isOpen onClose={handleClose}>
      <p className="-mt-3 mb-3 text-s text-soft">{T.factsKept}</p>
      {ticket.questions.map((q) => (
        <p key={q.fact} className="mb-3 border-l-4 border-ochre bg-sheet px-3 py-2 text-m">
          <strong>{factName(q.fact)}</strong>: {q.why}
        </p>
      ))}
      {FIRST.map((name) => (
        <Choice
          key={name} label={factName(name)} value={String(changed[name] ?? ticket.facts[name] ?? '')}
          options={(words.facts[name] ?? []).map((value) => ({ value, label: factValue(value, name) }))}
          onValueChange={(value) => setChanged({ ...changed, [name]: value })}
        />
      ))}
      <h3 className="mb-2 mt-4 text-s font-bold text-soft">{T.factsOfWork}</h3>
      {Object.entries(OF_THE_WORK).map(([name, values]) => (
        <Choice
          key={name} label={factName(name)} value={String(changed[name] ?? ticket.facts[name] ?? '')}
          options={values.map((value) => ({ value, label: factValue(value) }))} onValueChange={(value) => setChanged({ ...changed, [name]: value })}
        />
      ))}
      <div className="flex flex-wrap gap-3">
        {NUMBERS.map((name) => (
          <label key={name} className="text-s font-semibold text-soft">
            {factName(name)}
            <input
              type="number" min={0} max={1000000} value={Number(changed[name] ?? ticket.facts[name] ?? 0) || ''} onChange={(e) => setChanged({ ...changed, [name]: Math.max(0, Number(e.target.value)) })}
              className="mt-1 block w-32 rounded border border-line bg-sheet px-3 py-2 text-l font-normal text-ink"
            />
          </label>
        ))}
      </div>
      <div className="mt-4 flex items-center gap-5">
        <button type="button" onClick={handleClose} className="touch min-h-12 rounded bg-indigo px-5 text-l font-semibold text-paper">{T.factsSave}</button>
        <button type="button" onClick={onClose} className="touch min-h-12 px-2 text-l text-indigo">{T.factsCancel}</button>
      </div>
    </Sheet>
  )
}
