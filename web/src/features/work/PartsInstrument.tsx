import { useState, type FormEvent } from 'react'
import { useLocation } from 'wouter'

import type { Fit, PartIn, Ticket } from '../../api/client'
import { useTicket } from '../../api/queries'
import { useCharges, useDoWork, useParts } from '../../api/workQueries'
import { requestKey } from '../../lib/format'
import { SHEET_KEYS } from '../../lib/keymap'
import { money } from '../../lib/money'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { factValue, T } from '../../words'
import { InstrumentFrame } from '../instrument'

const FORMS: Record<string, string> = { '2.5': '2.5 inch', '3.5': '3.5 inch', m2: 'M.2', soldered: 'soldered' }

/** Which drives of the shelf fit this machine, and why the others do not. */
export function PartsInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenParts ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function FitRow({ fit, place, onTake }: { fit: Fit; place: number; onTake: () => void }) {
  const shop = useCharges()
  const item = fit.item
  const measures = [`${item.size_gb} GB`, FORMS[item.form] ?? item.form, item.key && `key ${item.key.toUpperCase()}`, item.height_mm ? `${item.height_mm} mm` : '', factValue(item.flash ? 'flash' : 'disk')]
  return (
    <li className="border-b border-hair">
      <button type="button" disabled={!fit.fits} onClick={onTake} data-fits={fit.fits} className="flex min-h-14 w-full flex-wrap items-center gap-x-4 gap-y-0.5 px-1 py-1.5 text-left disabled:text-soft">
        <span className="w-5 text-center text-xl text-indigo">{fit.fits ? SHEET_KEYS[place] : ''}</span>
        <span className="w-56 min-w-0"><span className="block truncate text-l font-semibold">{item.name}</span><span className="block text-s text-soft">{measures.filter(Boolean).join(' · ')}</span></span>
        <span className="w-16 text-right text-l tabular-nums">{money(item.price, shop)}</span>
        <span className="w-16 text-s text-soft">{T.partLeft(item.left)}</span>
        <span className="min-w-0 flex-1 text-m">{fit.why.map((why) => <span key={why} className="block">{why}</span>)}</span>
      </button>
    </li>
  )
}

function OpenParts({ ticket }: { ticket: Ticket }) {
  const { data: parts } = useParts(ticket)
  const change = useDoWork(ticket.id)
  const [, navigate] = useLocation()
  const [taking, setTaking] = useState<Fit | 'theirs' | null>(null)
  const fits = parts?.drives.filter((f) => f.fits) ?? []
  const not = parts?.drives.filter((f) => !f.fits) ?? []
  const wants = parts?.wants
  const needed = wants?.used_gb ?? wants?.old_gb
  const take = (part: PartIn) => change.mutate({ place: 'part', json: { ...part }, key: requestKey() }, { onSuccess: () => navigate(`/ticket/${ticket.id}`) })
  return (
    <InstrumentFrame
      page="parts" ticket={ticket} title={T.parts} isOn={taking === null} error={taking ? null : change.error}
      on={{ shelf: () => navigate('/shelf'), theirs: () => setTaking('theirs') }} targets={fits.map((f) => () => setTaking(f))}
      reading={wants?.form ? T.partsReading(wants.interface.toUpperCase(), FORMS[wants.form] ?? wants.form, needed ? `${needed} GB` : '') : T.partsNothingKnown}
      tools={<><Do of="parts" id="theirs" /><Do of="parts" id="shelf" /></>}
    >
      {parts?.chosen && <p className="mb-3 border-l-4 border-pine bg-sheet px-3 py-2 text-m"><strong>{T.partChosen}: {parts.chosen.name}</strong> {parts.chosen.serial}</p>}
      <h2 className="text-s font-bold text-soft">{T.partsFit}</h2>
      {parts && fits.length === 0 && <p className="py-3 text-l">{T.partsNone}</p>}
      <ul>{fits.map((fit, index) => <FitRow key={fit.item.id} fit={fit} place={index} onTake={() => setTaking(fit)} />)}</ul>
      {not.length > 0 && <h2 className="mt-5 text-s font-bold text-soft">{T.partsNot}</h2>}
      <ul>{not.map((fit) => <FitRow key={fit.item.id} fit={fit} place={0} onTake={() => undefined} />)}</ul>
      {taking && <TakeSheet taking={taking} error={change.error} onTake={take} onClose={() => { setTaking(null); change.reset() }} />}
    </InstrumentFrame>
  )
}

function TakeSheet({ taking, error, onTake, onClose }: { taking: Fit | 'theirs'; error: Error | null; onTake: (part: PartIn) => void; onClose: () => void }) {
  const [name, setName] = useState('')
  const [serial, setSerial] = useState('')
  const [size, setSize] = useState('')
  const isTheirs = taking === 'theirs'
  const submit = (event: FormEvent) => {
    event.preventDefault()
    onTake(isTheirs ? { name, serial, size_gb: size ? Number(size) : null } : { shelf: taking.item.id, serial, name: '' })
  }
  return (
    <Commands page="told" on={{}}>
      <Sheet title={isTheirs ? T.partTheirs : `${T.partTake}: ${taking.item.name}`} isOpen onClose={onClose}>
        {error && <div className="mb-3"><Note title={T.notKept}>{error.message}</Note></div>}
        <form onSubmit={submit} className="grid gap-3 text-m">
          {isTheirs && (
            <>
              <label>{T.partTheirsName}<input autoFocus required maxLength={120} value={name} onChange={(e) => setName(e.target.value)} className="mt-1 w-full rounded border border-line bg-sheet px-3 py-2 text-l" /></label>
              <label>{T.partSize}<input type="number" min={0} max={100000} value={size} onChange={(e) => setSize(e.target.value)} className="mt-1 w-40 rounded border border-line bg-sheet px-3 py-2 text-l" /></label>
            </>
          )}
          <label>{T.partSerial}<input autoFocus={!isTheirs} maxLength={60} autoComplete="off" spellCheck={false} value={serial} onChange={(e) => setSerial(e.target.value)} className="mt-1 w-full rounded border border-line bg-sheet px-3 py-2 font-mono text-l" /></label>
          <button type="submit" className="min-h-12 justify-self-start rounded bg-indigo px-5 text-l font-semibold text-paper">{T.partTake}</button>
        </form>
      </Sheet>
    </Commands>
  )
}
