import { useState } from 'react'

import type { Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { Choice } from '../../ui/Choice'
import { Sheet } from '../../ui/Sheet'
import { factName, factValue, T } from '../../words'

const FIRST = ['data', 'consent', 'recovery_key', 'mains', 'drive_kind', 'form', 'installed_os', 'platform']

interface FactsSheetProps {
  ticket: Ticket
  onFact: (fact: Record<string, string>) => void
  onClose: () => void
}

/** What is known of the machine and the customer's word. What was changed goes on the tape as one entry when the sheet
 * closes: walking past a value with the arrow keys must not release an interlock on the way. */
export function FactsSheet({ ticket, onFact, onClose }: FactsSheetProps) {
  const { words } = useWords()
  const [changed, setChanged] = useState<Record<string, string>>({})
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
          key={name} label={factName(name)} value={changed[name] ?? String(ticket.facts[name] ?? '')}
          options={(words.facts[name] ?? []).map((value) => ({ value, label: factValue(value) }))}
          onValueChange={(value) => setChanged({ ...changed, [name]: value })}
        />
      ))}
    </Sheet>
  )
}
