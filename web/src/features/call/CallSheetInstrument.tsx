import { useRef, useState } from 'react'
import { useLocation } from 'wouter'

import type { CallSheet, EntryBody, Terms, Ticket } from '../../api/client'
import { useAppend, useSheet, useTicket } from '../../api/queries'
import { useWords } from '../../api/words'
import { lowerFirst, percent, requestKey } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { T } from '../../words'
import { InstrumentFrame } from '../instrument'
import { SignSheet } from '../ticket/SignSheet'
import { AsIsSheet } from './AsIsSheet'
import { changedTerms } from './terms'
import { TermsPane } from './TermsPane'
import { WaysOut } from './WaysOut'

function Overturns({ sheet }: { sheet: CallSheet }) {
  const { move, words } = useWords()
  return (
    <section aria-label={T.overturnTitle} className="mt-4">
      <h2 className="mb-1 text-s font-bold text-soft">{T.overturnTitle}</h2>
      {sheet.overturns.length === 0 && <p className="text-m text-soft">{T.nothingOverturns}</p>}
      <ul className="grid gap-x-6 text-m md:grid-cols-2">
        {sheet.overturns.map((o) => (
          <li key={o.readings.join()} className="border-b border-hair py-1.5">
            {o.readings.map(([id, outcome]) => `${move(id).name}: ${lowerFirst(move(id).say[outcome] ?? '')}`).join(' + ')}
            <span className="text-soft"> ({percent(o.p)}) {T.makes(lowerFirst(words.call_names[o.choice] ?? ''))}</span>
          </li>
        ))}
      </ul>
    </section>
  )
}

/** The call sheet: every way out side by side, the customer's terms beside it, and what would overturn the call. */
export function CallSheetInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenSheet ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenSheet({ ticket }: { ticket: Ticket }) {
  const { words, move } = useWords()
  const [, navigate] = useLocation()
  const [tried, setTried] = useState<Terms>({})
  const [chosen, setChosen] = useState(0)
  const [overlay, setOverlay] = useState<'sign' | 'as-is' | null>(null)
  const append = useAppend(ticket.id)
  const terms = { ...(ticket.facts as Terms), ...tried }
  const changed = changedTerms(tried, ticket.facts)
  const { data: sheet, error } = useSheet(ticket.id, changed, ticket.tape.length)
  const inputs = { budget: useRef<HTMLInputElement>(null), machine_value: useRef<HTMLInputElement>(null), data_value: useRef<HTMLInputElement>(null) }
  const term = (name: string, value: string | number | null) => {
    const next = { ...tried }
    if (value === null) delete next[name]
    else next[name] = value
    setTried(next)
    setChosen(0)
  }
  const rows = sheet?.rows ?? []
  const row = rows[Math.min(chosen, rows.length - 1)]
  const canSign = row !== undefined && row.option.held_by.length === 0 && !ticket.closed_at
  const hasChanged = Object.keys(changed).length > 0
  const signed = (verdict: EntryBody) => {
    const entries = [...(hasChanged ? [{ fact: changed }] : []), verdict]
    append.mutate({ entries, key: requestKey() }, { onSuccess: () => navigate(`/ticket/${ticket.id}`), onSettled: () => setOverlay(null) })
  }
  const held = [...new Set(rows.flatMap((r) => r.option.held_by))]
  const name = row ? lowerFirst(words.call_names[row.option.choice] ?? '') : ''
  const on: Handlers<'call'> = {
    down: () => setChosen(Math.min(chosen + 1, rows.length - 1)), up: () => setChosen(Math.max(chosen - 1, 0)),
    ...(hasChanged && { keep: () => append.mutate({ entries: [{ fact: changed }], key: requestKey() }, { onSuccess: () => setTried({}) }) }),
    ...(!ticket.closed_at && { asIs: () => setOverlay('as-is') }),
    ...(canSign && { sign: () => setOverlay('sign') }),
  }
  return (
    <InstrumentFrame
      page="call" ticket={ticket} title={T.callSheetTitle} on={on} isOn={overlay === null} targets={rows.slice(0, 9).map((_, index) => () => setChosen(index))} asideWidth="wide"
      error={error ?? append.error} isWaiting={append.isPending && append.failureCount > 0}
      reading={sheet && (sheet.call.choice ? sheet.call.why : `${T.madeWhen} ${lowerFirst(sheet.call.why)}`)}
      aside={
        <>
          <TermsPane terms={terms} inputs={inputs} onTerm={term} />
          <p className="mt-3"><Do of="call" id="sign" label={T.signRow(name)} strong /></p>
          <p><Do of="call" id="keep" /></p>
          <p><Do of="call" id="asIs" /></p>
        </>
      }
    >
      {sheet?.plain && <div className="mb-3"><Note title={`${sheet.plain}.`} /></div>}
      {held.length > 0 && <div className="mb-3"><Note title={T.heldUntil} tone="ochre">{held.map((id) => `${words.interlocks[id]}.`).join(' ')}</Note></div>}
      <WaysOut rows={rows} chosen={Math.min(chosen, rows.length - 1)} onChoose={setChosen} />
      {sheet?.barred.map((b) => (
        <p key={b.interlock} className="mt-3 border-l-4 border-brick bg-sheet px-3 py-2 text-m">
          <span className="block text-m font-semibold">{T.noWayOut(b.fixes.map((f) => lowerFirst(move(f).name)).join(' · '))}</span>
          {b.why}. {b.release}
        </p>
      ))}
      {sheet && <Overturns sheet={sheet} />}
      {overlay === 'sign' && row && <SignSheet ticket={ticket} choice={row.option.choice} fix={row.option.fix} onClose={() => setOverlay(null)} onSign={() => signed({ signed: row.option.choice, fix: row.option.fix })} />}
      {overlay === 'as-is' && <AsIsSheet onClose={() => setOverlay(null)} onReason={(reason) => signed({ signed: 'release', fix: null, reason })} />}
    </InstrumentFrame>
  )
}
