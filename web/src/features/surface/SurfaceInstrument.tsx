import { useState } from 'react'

import { api, type Link, type Ticket } from '../../api/client'
import { useLink, useLinkChange, useTicket } from '../../api/queries'
import { useSurface, useSurfaces, type Surface, type SurfaceRead } from '../../api/surfaceQueries'
import { bytes, clock, minutes, percent } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { initials } from '../../lib/person'
import { Do } from '../../ui/Commands'
import { Share } from '../../ui/Share'
import { T } from '../../words'
import { InstrumentFrame, NothingYet } from '../instrument'
import { Copies, Places } from './Places'
import { loupeSpan, nextCenter } from './loupe'
import { Axis, Legend, Lives, Ribbon } from './Ribbon'

const BINS = 320
const LOUPE_BINS = 220
const FIRST_LOUPE = 0.08
const AN_HOUR = 60

/** The surface of a drive: one ribbon, what is bad on it, what lives there, and how long it still takes. */
export function SurfaceInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenSurface ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenSurface({ ticket }: { ticket: Ticket }) {
  const { data: link } = useLink(ticket.id)
  const order = link?.orders.find((o) => (o.order === 'scan' || o.order === 'copy' || o.order === 'fill') && (o.state === 'waiting' || o.state === 'paused'))
  const { data: all, error } = useSurfaces(ticket.id, order !== undefined && order.order !== 'fill')
  const change = useLinkChange(ticket.id)
  const [chosen, setChosen] = useState<string | null>(null)
  const [center, setCenter] = useState<number | null>(null)
  const [width, setWidth] = useState(FIRST_LOUPE)
  const [beside, setBeside] = useState(false)
  const reads = all?.reads ?? []
  const read = reads.find((r) => r.id === chosen) ?? reads[0] ?? null
  const { data: surface } = useSurface(ticket.id, read, null, BINS)
  const before = reads.find((r) => r.id === surface?.before) ?? null
  const { data: older } = useSurface(ticket.id, beside ? before : null, null, BINS)
  const sectors = surface?.sectors ?? 0
  const span = surface && center !== null ? loupeSpan(center, width * sectors, sectors) : null
  const { data: near } = useSurface(ticket.id, span ? read : null, span, LOUPE_BINS)
  const places = surface?.places ?? []
  const at = center === null ? -1 : places.findIndex((p) => p.last >= center)
  const canOrder = link?.state === 'linked' && !link.orders.some((o) => o.state === 'waiting') && !ticket.closed_at
  const run = (what: () => Promise<Link>) => change.mutate(what)
  const start = (device: string, upto: number | null) => {
    setChosen(null)
    run(() => api.putScan(ticket.id, device, upto, initials()))
  }
  const steer = (what: string) => order && run(() => api.steerOrder(ticket.id, order.id, what, initials()))
  const walk = (by: number) => setCenter((c) => nextCenter(places, c, by, width, sectors))
  const drive = (all?.drives ?? []).find((d) => d.device === read?.device) ?? all?.drives[0]
  const mayStart = canOrder && !order && drive !== undefined && all?.held === ''
  const on: Handlers<'surface'> = {
    next: () => walk(1), before: () => walk(-1),
    closer: () => { setCenter((c) => c ?? sectors / 2); setWidth((w) => Math.max(w / 2, 64 / Math.max(sectors, 64))) },
    wider: () => (width >= 0.5 ? (setCenter(null), setWidth(FIRST_LOUPE)) : setWidth((w) => w * 2)),
    ...(before && { compare: () => setBeside(!beside) }),
    ...(mayStart && { start: () => start(drive.device, null), hour: () => start(drive.device, AN_HOUR) }),
    ...(canOrder && !order && drive !== undefined && all?.copy_held === '' && {
      [drive.fits ? 'copy' : 'copyTight']: () => run(() => api.putCopy(ticket.id, drive.device, !drive.fits, initials())),
    }),
    ...(order?.state === 'waiting' && { pause: () => steer('pause'), stop: () => steer('stop') }),
    ...(order?.state === 'paused' && { goOn: () => steer('go-on'), leave: () => steer('leave') }),
  }
  const fastest = Math.max(1, ...(surface?.bins ?? []).map((b) => b.mb_s ?? 0), ...(older?.bins ?? []).map((b) => b.mb_s ?? 0))
  return (
    <InstrumentFrame
      page="surface" ticket={ticket} title={T.surfaceTitle} on={on} targets={reads.slice(0, 9).map((r) => () => setChosen(r.id))}
      reading={read && surface ? <Reading read={read} surface={surface} link={link} /> : T.surfaceHint} error={error ?? change.error}
    >
      {reads.length > 1 && (
        <div className="mb-2 flex flex-wrap gap-x-4">
          {reads.slice(0, 9).map((r, index) => (
            <button key={r.id} type="button" onClick={() => setChosen(r.id)} aria-pressed={r === read} className={`touch min-h-9 px-1 text-m ${r === read ? 'font-bold' : 'text-indigo'}`}>
              <span className="text-indigo">{index + 1}</span> <span className="font-mono">{r.device}</span> {clock(r.at)} · {percent(r.share)}
            </button>
          ))}
        </div>
      )}
      <Work order={order} link={link} held={all?.held ?? ''} isLinked={link?.state === 'linked'} copyHeld={all?.copy_held ?? ''} />
      {surface ? (
        <>
          <section aria-live="polite" data-pattern={surface.pattern} className="border-l-[5px] border-ink bg-sheet px-4 py-2.5">
            <p className="text-xl font-bold">{read!.state === 'running' && <span className="font-normal">{T.soFar(percent(surface.share))} </span>}{surface.text}</p>
            <p className="text-m text-soft">{surface.means}{surface.heads && ` ${surface.heads}.`}</p>
          </section>
          <div className="mt-3">
            <Ribbon surface={surface} fastest={fastest} label={T.ribbonOf(read!.device, percent(surface.share), surface.text)} loupe={span} onPick={setCenter} />
            <Axis surface={surface} fastest={fastest} />
            <Lives surface={surface} />
            <div className="flex flex-wrap justify-between gap-x-6 text-m text-soft">
              <span>{surface.outer !== null && T.outside(surface.outer.toFixed(0))}</span>
              <Legend />
              <span>{surface.inner === null ? T.insideNot : T.inside(surface.inner.toFixed(0))}</span>
            </div>
          </div>
          {beside && older && (
            <div className="mt-3">
              <h2 className="text-s font-bold">{T.readOf(clock(older.read.at), percent(older.share))}</h2>
              <Ribbon surface={older} fastest={fastest} label={T.ribbonOf(older.read.device, percent(older.share), older.text)} />
            </div>
          )}
          {near && span && (
            <div className="mt-2" data-loupe>
              <h2 className="text-s font-bold">{T.underLoupe(bytes(near.first * surface.sector), bytes(near.end * surface.sector))}</h2>
              <Ribbon surface={near} fastest={fastest} tall label={T.underLoupe(bytes(near.first * surface.sector), bytes(near.end * surface.sector))} onPick={setCenter} />
              <Lives surface={near} />
            </div>
          )}
          <div className="mt-2 flex flex-wrap gap-x-5">
            <Do of="surface" id="before" /><Do of="surface" id="next" /><Do of="surface" id="closer" /><Do of="surface" id="wider" /><Do of="surface" id="compare" strong={beside} />
          </div>
          <Copies ticket={ticket.id} canFill={order === undefined} orders={link?.orders ?? []} />
          <Places ticket={ticket.id} read={read!} surface={surface} at={at} onPick={(p) => setCenter((p.first + p.last) / 2)} />
        </>
      ) : !all || (read && !surface) ? <p className="pt-6 text-l text-soft">{T.loading}</p> : (
        <NothingYet of="surface" ticket={ticket.id} title={T.noSurface} hint={order ? T.surfaceBegins : T.noSurfaceHint} hintLinked={order ? T.surfaceBegins : T.noSurfaceLinked} />
      )}
    </InstrumentFrame>
  )
}

function Reading({ read, surface, link }: { read: SurfaceRead; surface: Surface; link: Link | undefined }) {
  const isRunning = read.state === 'running'
  const left = surface.seconds_left !== null && surface.seconds_left > 60 ? T.timeLeft(minutes(surface.seconds_left / 60)) : null
  const parts = [bytes(surface.sectors * surface.sector), T.readShare(percent(surface.share)), isRunning && left, !isRunning && T.readStates[read.state]]
  return (
    <span>
      <span className="font-mono">{read.device} {read.drive}</span> · {parts.filter(Boolean).join(' · ')}
      {isRunning && link?.state === 'away' && ` · ${T.goesOnAlone}`}
    </span>
  )
}

interface WorkProps { order: Link['orders'][number] | undefined; link: Link | undefined; held: string; copyHeld: string; isLinked: boolean }

/** What runs, what it says of itself, and what can be done about it; or how a read is started. */
function Work({ order, link, held, copyHeld, isLinked }: WorkProps) {
  if (order) {
    const own = link?.progress && link.progress.order === String(order.id) ? link.progress : null
    const fills = order.order === 'fill' ? T.fills(order.drive ?? order.device ?? '', order.copy_of ?? 0) : ''
    const isAsked = own?.waits_for_key === true
    const doing = own === null ? (fills ? T.fillBegins : T.surfaceBegins) : isAsked ? T.fillWaits : fills ? T.fillDoes(own.done * 2 > own.of) : own.text
    return (
      <div className="mb-3 flex flex-wrap items-center gap-x-5 gap-y-1 border-l-4 border-ochre bg-sheet px-3 py-1" role="status" data-work={order.order}>
        <span className="text-m">
          {fills && <strong className="mr-3">{fills}</strong>}
          {order.state === 'paused' ? `${T.readPaused}${order.detail && `, ${order.detail}`}` : doing}
          {fills && own?.minutes_left != null && ` · ${T.timeLeft(minutes(own.minutes_left))}`}
        </span>
        {fills && own && <Share done={own.done} of={own.of} label={fills} />}
        <Do of="surface" id="pause" strong /><Do of="surface" id="stop" label={isAsked ? T.fillStopBefore : fills ? T.fillStop : T.stopIt} /><Do of="surface" id="goOn" strong /><Do of="surface" id="leave" />
      </div>
    )
  }
  return (
    <>
      {isLinked && held && <p className="mb-2 border-l-4 border-brick bg-sheet px-3 py-1.5 text-m"><strong>{T.readHeld}</strong>: {held} <Do of="surface" id="facts" label={T.unblockFacts} /></p>}
      {isLinked && copyHeld && <p className="mb-2 border-l-4 border-brick bg-sheet px-3 py-1.5 text-m"><strong>{T.copyHeld}</strong>: {copyHeld} <Do of="surface" id="facts" label={T.unblockFacts} /></p>}
      <div className="mb-2 flex flex-wrap gap-x-5 empty:hidden"><Do of="surface" id="start" strong /><Do of="surface" id="hour" /><Do of="surface" id="copy" strong /><Do of="surface" id="copyTight" /></div>
    </>
  )
}
