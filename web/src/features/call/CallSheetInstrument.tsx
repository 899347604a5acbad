import { useRef, useState } from 'react'
import { useLocation } from 'wouter'

import type { CallSheet, Terms, Ticket } from '../../api/client'
import { useAppend, useSheet, useTicket } from '../../api/queries'
import { useWords } from '../../api/words'
import { lowerFirst, percent, requestKey } from '../../lib/format'
import { useHotkeys, type Hotkeys } from '../../lib/hotkeys'
import { toggleTheme } from '../../lib/theme'
import { KeyAction } from '../../ui/Key'
import { Note } from '../../ui/Note'
import { T } from '../../words'
import { TicketHead } from '../ticket'
import { changedTerms, DATA, following, URGENCY } from './terms'
import { TermsPane } from './TermsPane'
import { WaysOut } from './WaysOut'

function Overturns({ sheet }: { sheet: CallSheet }) {
  const { move, words } = useWords()
  return (
    <section aria-label={T.overturnTitle} className="mt-4">
      <h2 className="mb-1 text-s font-bold text-soft">{T.overturnTitle}</h2>
      {sheet.overturns.length === 0 && <p className="text-m text-soft">{T.nothingOverturns}</p>}
      <ul className="grid grid-cols-2 gap-x-6 text-m">
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
  const append = useAppend(ticket.id)
  const terms = { ...(ticket.facts as Terms), ...tried }
  const changed = changedTerms(tried, ticket.facts)
  const { data: sheet, error } = useSheet(ticket.id, changed, ticket.tape.length)
  const inputs = { budget: useRef<HTMLInputElement>(null), machine_value: useRef<HTMLInputElement>(null), data_value: useRef<HTMLInputElement>(null) }
  const back = () => navigate(`/ticket/${ticket.id}`)
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
  const sign = async () => {
    if (!row || !canSign) return
    if (Object.keys(changed).length > 0) await append.mutateAsync({ entry: { fact: changed }, key: requestKey() })
    await append.mutateAsync({ entry: { signed: row.option.choice, fix: row.option.fix }, key: requestKey() })
    back()
  }
  const keep = () => Object.keys(changed).length > 0 && append.mutate({ entry: { fact: changed }, key: requestKey() }, { onSuccess: () => setTried({}) })
  const keys: Hotkeys = {
    k: () => void keep(),
    Escape: back, b: () => navigate('/'), l: toggleTheme, s: () => void sign(),
    d: () => term('data', following(DATA, String(terms['data'] ?? 'unknown'))),
    t: () => term('urgency', following(URGENCY, String(terms['urgency'] ?? 'can-wait'))),
    g: () => inputs.budget.current?.focus(), v: () => inputs.machine_value.current?.focus(), a: () => inputs.data_value.current?.focus(),
    f: () => navigate(`/ticket/${ticket.id}?sheet=facts`),
    ArrowDown: () => setChosen(Math.min(chosen + 1, rows.length - 1)), ArrowUp: () => setChosen(Math.max(chosen - 1, 0)),
  }
  rows.slice(0, 9).forEach((_, index) => { keys[String(index + 1)] = () => setChosen(index) })
  useHotkeys(keys)
  const held = [...new Set(rows.flatMap((r) => r.option.held_by))]
  const name = row ? lowerFirst(words.call_names[row.option.choice] ?? '') : ''
  return (
    <div className="flex h-full flex-col">
      <TicketHead ticket={ticket} onGate={back} onBench={() => navigate('/')} onFacts={() => navigate(`/ticket/${ticket.id}?sheet=facts`)} />
      <main aria-label={T.callSheetTitle} className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_300px]">
        <div className="overflow-y-auto px-7 py-4">
          <div className="mb-2 flex items-baseline gap-4">
            <h1 className="text-xl font-bold">{T.callSheetTitle}</h1>
            <p className="min-w-0 flex-1 text-m text-soft">{sheet && (sheet.call.choice ? sheet.call.why : `${T.madeWhen} ${lowerFirst(sheet.call.why)}`)}</p>
            <KeyAction hotkey="Esc" label={T.backToTicket} onPress={back} />
          </div>
          {(error ?? append.error) && <div className="mb-3"><Note title={T.notKept}>{(error ?? append.error)?.message}</Note></div>}
          {sheet?.plain && <div className="mb-3"><Note title={`${sheet.plain}.`} /></div>}
          {held.length > 0 && <div className="mb-3"><Note title={T.heldUntil}>{held.map((id) => `${words.interlocks[id]}.`).join(' ')}</Note></div>}
          <WaysOut rows={rows} chosen={Math.min(chosen, rows.length - 1)} onChoose={setChosen} />
          {sheet?.barred.map((b) => (
            <p key={b.interlock} className="mt-3 border-l-4 border-brick bg-sheet px-3 py-2 text-s">
              <span className="block text-m font-semibold">{T.noWayOut(b.fixes.map((f) => lowerFirst(move(f).name)).join(' · '))}</span>
              {b.why}. {b.release}
            </p>
          ))}
          {sheet && <Overturns sheet={sheet} />}
        </div>
        <aside className="overflow-y-auto border-l border-dashed border-line bg-sheet px-5 py-4">
          <TermsPane terms={terms} inputs={inputs} onTerm={term} />
          {canSign && <p className="mt-4"><KeyAction hotkey="S" label={T.signRow(name)} onPress={() => void sign()} strong /></p>}
          {Object.keys(changed).length > 0 && (
            <p><KeyAction hotkey="K" label={T.keepTerms} onPress={() => void keep()} /></p>
          )}
        </aside>
      </main>
    </div>
  )
}
