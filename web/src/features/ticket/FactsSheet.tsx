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

/** What is known of the machine and the customer's word; every change goes on the tape. */
export function FactsSheet({ ticket, onFact, onClose }: FactsSheetProps) {
  const { words } = useWords()
  return (
    <Sheet title={T.facts} isOpen onClose={onClose}>
      {ticket.questions.map((q) => (
        <p key={q.fact} className="mb-3 border-l-4 border-ochre bg-sheet px-3 py-2 text-m">
          <strong>{factName(q.fact)}</strong>: {q.why}
        </p>
      ))}
      {FIRST.map((name) => (
        <Choice
          key={name} label={factName(name)} value={String(ticket.facts[name] ?? '')}
          options={(words.facts[name] ?? []).map((value) => ({ value, label: factValue(value) }))}
          onValueChange={(value) => onFact({ [name]: value })}
        />
      ))}
    </Sheet>
  )
}
