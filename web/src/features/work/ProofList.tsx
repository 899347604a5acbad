import type { ProofLine } from '../../api/client'
import { T } from '../../words'

const MARKS: Record<string, string> = { proven: '✓', open: '·', failed: '×', waived: '–' }
const TONES: Record<string, string> = { proven: 'text-pine', open: 'text-soft', failed: 'text-brick', waived: 'text-ochre-ink' }

/** What the job has to prove: each line with its state in a word, and a way to the entry it rests on. */
export function ProofList({ proof, onEntry }: { proof: readonly ProofLine[]; onEntry?: (place: number) => void }) {
  if (proof.length === 0) return null
  return (
    <section aria-label={T.proof}>
      <h2 className="border-b border-hair pb-1 text-s font-bold">{T.proof}</h2>
      <ul>
        {proof.map((line) => (
          <li key={line.id} data-proof={line.id} data-state={line.state} className="flex gap-2 border-b border-hair py-1.5 text-m">
            <span aria-hidden className={`w-4 shrink-0 text-center font-bold ${TONES[line.state] ?? ''}`}>{MARKS[line.state]}</span>
            <span className="min-w-0 flex-1">
              {line.name}
              <span className={`block text-m ${TONES[line.state] ?? ''}`}>
                {T.proofStates[line.state]}
                {(line.reason || (line.state !== 'proven' && line.why)) && <span className="text-soft"> · {line.reason || line.why}</span>}
              </span>
            </span>
            {onEntry && line.entries[0] !== undefined && (
              <button type="button" onClick={() => onEntry(line.entries[0]!)} aria-label={`${T.tape}: ${line.name}`} className="touch min-h-9 self-start px-1 text-s text-indigo">{T.tape}</button>
            )}
          </li>
        ))}
      </ul>
    </section>
  )
}
