import type { RefObject } from 'react'

import type { Terms } from '../../api/client'
import { Choice } from '../../ui/Choice'
import { factValue, T } from '../../words'
import { DATA, URGENCY } from './terms'

interface TermsPaneProps {
  terms: Terms
  inputs: Record<string, RefObject<HTMLInputElement | null>>
  onTerm: (name: string, value: string | number | null) => void
}

interface AmountProps {
  name: string
  label: string
  terms: Terms
  inputs: TermsPaneProps['inputs']
  onTerm: TermsPaneProps['onTerm']
}

function Amount({ name, label, terms, inputs, onTerm }: AmountProps) {
  return (
    <label className="mb-2 flex items-center gap-2 text-m">
      <span className="flex-1">{label}</span>
      <input
        ref={inputs[name]} type="number" inputMode="numeric" min={0} step={10} placeholder={T.noLimit} value={terms[name] ?? ''}
        onChange={(e) => onTerm(name, e.target.value === '' ? null : Math.max(0, Number(e.target.value)))}
        onFocus={(e) => e.currentTarget.select()}
        onKeyDown={(e) => { if (e.key === 'Enter' || e.key === 'Escape') { e.currentTarget.blur(); e.preventDefault(); e.stopPropagation() } }}
        className="w-28 rounded border border-line bg-sheet px-2 py-1.5 text-right"
      />
    </label>
  )
}

/** What the customer decides. Every change ranks the ways out anew at once; nothing is kept before the call is signed. */
export function TermsPane({ terms, inputs, onTerm }: TermsPaneProps) {
  const shared = { terms, inputs, onTerm }
  return (
    <section aria-label={T.customerDecides}>
      <h2 className="mb-2 text-s font-bold text-soft">{T.customerDecides}</h2>
      <div className="relative">
        <Choice
          label={T.data} value={String(terms['data'] ?? 'unknown')} onValueChange={(v) => onTerm('data', v)}
          options={DATA.map((value) => ({ value, label: factValue(value) }))}
        />
      </div>
      <div className="relative">
        <Choice
          label={T.urgency} value={String(terms['urgency'] ?? 'can-wait')} onValueChange={(v) => onTerm('urgency', v)}
          options={URGENCY.map((value) => ({ value, label: factValue(value) }))}
        />
      </div>
      <Amount name="budget" label={T.budget} {...shared} />
      <Amount name="machine_value" label={T.worth} {...shared} />
      <Amount name="data_value" label={T.dataValue} {...shared} />
    </section>
  )
}
