import { useState } from 'react'

import { api, type Link, type Ticket } from '../../api/client'
import { useCaptures, useLink, useLinkChange, usePatients } from '../../api/queries'
import { clock } from '../../lib/format'
import { SHEET_KEYS, type Handlers } from '../../lib/keymap'
import { initials } from '../../lib/person'
import { Commands, Do } from '../../ui/Commands'
import { Copyable } from '../../ui/Copyable'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'
import { isUp, offersNow } from './offers'

function HowTo({ link }: { link: Link }) {
  return (
    <>
      <p className="mb-2 text-m">{T.linkHint}</p>
      <div className="flex items-start gap-5 max-sm:flex-col">
        <div className="w-40 shrink-0 [&_svg]:h-auto [&_svg]:w-full" role="img" aria-label={link.address} dangerouslySetInnerHTML={{ __html: link.qr }} />
        <div className="min-w-0">
          {link.commands.map((line, index) => (
            <div key={line} className={`rounded border px-3 py-2 ${index === 0 ? 'border-line bg-sheet' : 'mt-1 border-hair'}`}><Copyable text={line} className={`break-all font-mono ${index === 0 ? 'text-m' : 'text-s text-soft'}`} /></div>
          ))}
          {link.local_only && <p className="mt-2 border-l-4 border-ochre px-2 text-m">{T.linkLocal}</p>}
          <p className="mt-2 text-s text-soft">{T.linkNoNetwork}</p>
        </div>
      </div>
    </>
  )
}

/** The link between a ticket and the probe on its machine: how to start it, what it does, and what it may be told to do. */
export function LinkSheet({ ticket, onClose }: { ticket: Ticket; onClose: () => void }) {
  const { data: link } = useLink(ticket.id)
  const { data: captures = [] } = useCaptures(ticket.id)
  const { data: patients = [] } = usePatients()
  const change = useLinkChange(ticket.id)
  const [showPractice, setShowPractice] = useState(false)
  const run = (what: () => Promise<Link>) => change.mutate(what)
  const isOpen = link !== undefined && isUp(link)
  const offers = link ? offersNow(link, captures) : []
  const order = (at: number) => {
    const offer = offers[at]
    if (offer && !offer.held) run(() => api.putOrder(ticket.id, offer.order, offer.device, offer.kind || null, initials()))
  }
  const connect = (id: string) => { setShowPractice(false); run(() => api.connectPractice(ticket.id, id, initials())) }
  const on: Handlers<'link'> = {
    practice: () => setShowPractice(true),
    ...(isOpen ? { end: () => run(() => api.endLink(ticket.id)) } : { open: () => run(() => api.openLink(ticket.id, initials())) }),
  }
  const targets = showPractice ? patients.map((p) => () => connect(p.id)) : offers.map((_, index) => () => order(index))
  if (!link) return null
  const name = [link.machine['sys_vendor'], link.machine['product_name'], link.machine['product_serial']].filter(Boolean).join(' ')
  return (
    <Commands page="link" on={showPractice ? {} : on} targets={targets} targetKeys={SHEET_KEYS}>
    <Sheet title={T.linkTitle} isOpen onClose={onClose} wide>
      <p className="-mt-3 mb-4 text-l font-semibold">{T.linkStates[link.state]}{name && link.state !== 'none' && `: ${name}`}</p>
      {change.error && <div className="mb-3"><Note title={T.notKept}>{change.error.message}</Note></div>}
      {link.number && <p className="mb-3 text-l" data-number>{T.linkNumber} <span className="font-mono text-xl font-bold">{link.number.slice(0, 3)} {link.number.slice(3)}</span></p>}
      {link.progress && (
        <p className="mb-3 text-m">{T.linkDone(link.progress.done, link.progress.of)} <span className="font-mono text-s text-soft">{link.progress.text}</span></p>
      )}
      {isOpen && link.state !== 'linked' && <HowTo link={link} />}
      {!isOpen && <p><Do of="link" id="open" strong /></p>}
      {offers.length > 0 && (
        <div className="mt-2 flex flex-col gap-2">
          {offers.map((offer, index) => (
            <button
              key={`${offer.order}-${offer.kind}-${offer.device}`} type="button" disabled={offer.held !== ''} onClick={() => order(index)}
              className={`flex min-h-12 items-center gap-3 rounded-lg border px-3.5 text-l ${offer.held ? 'border-hair border-l-4 border-l-brick text-soft' : 'border-line bg-sheet'}`}
            >
              <span className="w-5 text-center text-xl text-indigo">{index + 1}</span>
              <span className="min-w-0">
                {offer.label}
                {offer.held && <span className="block text-m">{T.heldBack}: {offer.held}</span>}
              </span>
            </button>
          ))}
        </div>
      )}
      {link.orders.length > 0 && (
        <section aria-label={T.linkOrders} className="mt-5">
          <h3 className="mb-1 text-s font-bold text-soft">{T.linkOrders}</h3>
          <ul className="text-m">
            {[...link.orders].reverse().map((o) => (
              <li key={o.id} className="flex gap-3 border-b border-hair py-1.5">
                <span className="text-s text-soft">{clock(o.made_at)}</span>
                <span className="min-w-0 flex-1">{T.orderNames[o.order]}{o.kind && ` ${o.kind}`}{o.device && ` ${o.device}`}{o.drive && <span className="font-mono text-s text-soft"> {o.drive}</span>}</span>
                <span className={o.state === 'failed' || o.state === 'refused' ? 'font-bold text-brick' : 'text-soft'}>{T.orderStates[o.state]}{o.detail && `: ${o.detail}`}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      <div className="mt-5 flex flex-wrap gap-x-5">
        <Do of="link" id="end" />
        <Do of="link" id="practice" />
      </div>
      {showPractice && (
        <ul className="mt-2 grid gap-1.5 sm:grid-cols-2">
          {patients.map((p, index) => (
            <li key={p.id}>
              <button
                type="button" onClick={() => connect(p.id)}
                className="flex min-h-11 w-full items-center gap-3 rounded border border-line bg-sheet px-3 text-m"
              >
                <span className="text-l text-indigo">{SHEET_KEYS[index]}</span>“{p.words}”
              </button>
            </li>
          ))}
        </ul>
      )}
    </Sheet>
    </Commands>
  )
}
