import { useRef, useState } from 'react'
import { useLocation } from 'wouter'

import type { Ticket } from '../../api/client'
import { useAppend, useTicket } from '../../api/queries'
import { useErase, usePaper, usePapers } from '../../api/workQueries'
import { day, requestKey } from '../../lib/format'
import { keyOf } from '../../lib/keymap'
import { Do } from '../../ui/Commands'
import { Key } from '../../ui/Key'
import { Note } from '../../ui/Note'
import { T } from '../../words'
import { InstrumentFrame } from '../instrument'
import { PaperView } from './PaperView'

const KINDS = ['customer', 'file', 'label', 'bill'] as const

/** The papers of a ticket as they are printed, and the minutes that stand on the bill. */
export function PapersInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenPapers ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenPapers({ ticket }: { ticket: Ticket }) {
  const [kind, setKind] = useState<string>('customer')
  const { data: papers } = usePapers(ticket)
  const { data: paper, error } = usePaper(ticket, kind)
  const append = useAppend(ticket.id)
  const erase = useErase(ticket.id)
  const [, navigate] = useLocation()
  const [isSure, setSure] = useState(false)
  const minutes = useRef<HTMLInputElement>(null)
  const pdf = `/api/tickets/${ticket.id}/papers/${kind}/pdf`
  const correct = (text: string) => {
    const said = Number(text)
    if (text !== '' && said >= 0 && said !== (papers?.spent.corrected ?? null)) append.mutate({ entries: [{ spent: said }], key: requestKey() })
  }
  const tabs = papers && (
    <div role="tablist" aria-label={T.papers} className="mb-4 grid gap-1.5 max-lg:grid-cols-2 lg:mb-5">
      {KINDS.map((k, index) => (
        <button key={k} type="button" role="tab" aria-selected={k === kind} onClick={() => setKind(k)} className="flex min-h-12 items-center gap-3 rounded-lg border border-line px-3.5 text-m aria-selected:border-ink aria-selected:font-bold">
          <span className="w-4 text-center text-xl font-normal text-indigo">{index + 1}</span>{papers.kinds[k]}
        </button>
      ))}
    </div>
  )
  return (
    <InstrumentFrame
      page="papers" ticket={ticket} title={T.papers} reading={T.papersReading} error={error ?? append.error ?? erase.error} asideWidth="wide"
      on={{ ...(paper?.may_print && { print: () => window.print(), pdf: () => { window.open(pdf, '_blank') } }), ...(!ticket.closed_at && { minutes: () => minutes.current?.focus() }), shop: () => navigate('/shop') }}
      targets={KINDS.map((k) => () => setKind(k))}
      tools={<><Do of="papers" id="print" strong /><Do of="papers" id="pdf" /><a href={`/api/tickets/${ticket.id}/papers/ledger.csv`} download className="touch flex min-h-9 items-center text-m text-indigo">{T.asCsv}</a><Do of="papers" id="shop" strong={paper?.may_print === false} label={paper?.may_print === false ? T.shopFirst : T.shopShort} /></>}
      aside={papers && (
        <>
          <div className="max-lg:hidden">{tabs}</div>
          <h2 className="text-s font-bold text-soft">{T.minutesShort}</h2>
          <p className="mb-2 text-m">{T.minutesSpent(papers.spent.measured, papers.spent.expected)}</p>
          {!ticket.closed_at && (
            <label className="mb-5 flex items-center gap-2 text-m">
              <Key>{keyOf('papers', 'minutes')}</Key><span className="flex-1">{T.minutesCorrected}</span>
              <input
                ref={minutes} type="number" min={0} max={100000} key={papers.spent.corrected ?? 'none'} defaultValue={papers.spent.corrected ?? Math.round(papers.spent.measured)}
                onBlur={(e) => { if (e.target.value !== e.target.defaultValue) correct(e.target.value) }} onFocus={(e) => e.currentTarget.select()} onKeyDown={(e) => { if (e.key === 'Escape') e.currentTarget.value = e.currentTarget.defaultValue; if (e.key === 'Enter' || e.key === 'Escape') { e.stopPropagation(); e.currentTarget.blur() } }}
                className="w-24 rounded border border-line bg-paper px-2 py-1.5 text-right text-l"
              />
            </label>
          )}
          {papers.erased_at && (
            <div className="text-m text-soft">
              <p>{T.erasedAt(day(papers.erased_at))}</p>
              <ul className="mt-1 list-disc pl-5 text-m">{[...papers.erased_copies, ...papers.erase_outside].map((line) => <li key={line}>{line}</li>)}</ul>
            </div>
          )}
          {ticket.closed_at && !papers.erased_at && (isSure ? (
            <Note title={T.erase} tone="ochre">
              <p>{T.eraseHint}</p>
              <ul className="mt-1 list-disc pl-5 text-m">{papers.erase_outside.map((line) => <li key={line}>{line}</li>)}</ul>
              <button type="button" onClick={() => erase.mutate(undefined, { onSettled: () => setSure(false) })} className="mt-2 min-h-11 rounded bg-brick px-4 font-semibold text-paper">{T.eraseSure}</button>
            </Note>
          ) : <button type="button" onClick={() => setSure(true)} className="touch min-h-9 text-m text-indigo">{T.erase}</button>)}
        </>
      )}
    >
      <div className="lg:hidden">{tabs}</div>
      {paper?.may_print === false && <div className="mb-3"><Note title={T.shopFirstWhy} tone="ochre" /></div>}
      {paper ? <PaperView paper={paper} ticketId={ticket.id} /> : <p className="text-l text-soft">{T.loading}</p>}
    </InstrumentFrame>
  )
}
