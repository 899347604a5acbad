import { useState } from 'react'

import { api, type Ticket } from '../../api/client'
import { useLink, useLinkChange, useTicket } from '../../api/queries'
import { useVolumeChange, useVolumes, type VolumeAsk, type Volumes } from '../../api/volumeQueries'
import { bytes } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { initials } from '../../lib/person'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { InstrumentFrame, NothingYet } from '../instrument'
import { KeySheet } from './KeySheet'
import { isTicked, Repair } from './Repair'
import { Save } from './Save'
import { Skyline } from './Skyline'
import { Findings, Verdict } from './Verdict'

/** A volume: looked at without writing, repaired in groups that can be taken back, and what is the customer's saved first. */
export function VolumeInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenVolume ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

type Side = 'repair' | 'save'

const toggled = (set: ReadonlySet<string>, own: string): ReadonlySet<string> => {
  const next = new Set(set)
  if (!next.delete(own)) next.add(own)
  return next
}

function OpenVolume({ ticket }: { ticket: Ticket }) {
  const [place, setPlace] = useState<{ source: string; first: number | null }>({ source: '', first: null })
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set())
  const [skipped, setSkipped] = useState<ReadonlySet<string>>(new Set())
  const [side, setSide] = useState<Side | null>(null)
  const [isArmed, setArmed] = useState(false)
  const [isAll, setAll] = useState(false)
  const [inHand, setInHand] = useState<string | null>(null)
  const [showsAll, setShowsAll] = useState(false)
  const [asksKey, setAsksKey] = useState(false)
  const { data: link } = useLink(ticket.id)
  const { data: volumes, error } = useVolumes(ticket.id, place.source, place.first)
  const change = useVolumeChange(ticket.id, volumes)
  const steering = useLinkChange(ticket.id)
  const look = volumes?.look ?? null
  const job = volumes?.job ?? null
  const isBusy = job !== null && job.problem === ''
  const isCopy = volumes?.source.startsWith('copy-') ?? false
  const order = isCopy ? undefined : link?.orders.find((o) => (o.order === 'volume' || o.order === 'rescue') && (o.state === 'waiting' || o.state === 'paused'))
  const canAsk = volumes !== undefined && volumes.first !== null && !isBusy && !change.isPending && (isCopy || (link?.state === 'linked' && !ticket.closed_at && !link.orders.some((o) => o.state === 'waiting')))
  const active: Side = side ?? (look && look.groups.length > 0 && volumes?.held.repair === '' ? 'repair' : 'save')
  const taken = look?.groups.filter((g) => isTicked(g, left)).map((g) => g.id) ?? []
  // what is the customer's is wanted unless it is left out
  const chosen = new Set(look?.people.filter((s) => !skipped.has(s.path)).map((s) => s.path) ?? [])
  const ask = (what: VolumeAsk) => { setArmed(false); change.mutate({ ask: what, by: initials() }) }
  const go = (source: string, first: number | null) => { setPlace({ source, first }); setLeft(new Set()); setSkipped(new Set()); setArmed(false); setInHand(null); setSide(null) }
  const nextOf = <X,>(all: readonly X[], at: number): X => all[(at + 1) % all.length]!
  const steer = (what: string) => order && steering.mutate(() => api.steerOrder(ticket.id, order.id, what, initials()))
  const standing = volumes?.repairs.find((r) => r.can_take_back && !r.reverts)
  const canWrite = canAsk && look !== null && !look.is_stale && taken.length > 0 && volumes.held.repair === ''
  const on: Handlers<'volume'> = {
    ...(volumes && volumes.sources.length > 1 && { disk: () => go(nextOf(volumes.sources, volumes.sources.findIndex((s) => s.id === volumes.source)).id, null) }),
    ...(volumes && volumes.pieces.length > 1 && { nextVolume: () => go(volumes.source, nextOf(volumes.pieces, volumes.pieces.findIndex((p) => p.first === volumes.first)).first) }),
    ...(canAsk && volumes.held.look === '' && !isArmed && { look: () => ask({ to: 'look' }) }),
    ...(look && look.groups.length > 0 && { side: () => { setSide(active === 'repair' ? 'save' : 'repair'); setArmed(false) } }),
    ...(canWrite && (isArmed ? { write: () => ask({ to: 'repair', groups: taken }), leave: () => setArmed(false) } : { repair: () => { setSide('repair'); setArmed(true) } })),
    ...(canAsk && standing && !isArmed && { takeBack: () => ask({ to: 'take-back', id: standing.id }) }),
    ...(canAsk && look && !isArmed && volumes.held.rescue === '' && {
      ...(chosen.size > 0 && { save: () => ask({ to: 'rescue', only: [...chosen], deleted: false, is_all: isAll }), all: () => setAll(!isAll) }),
      ...(look.deleted > 0 && { deleted: () => ask({ to: 'rescue', only: [], deleted: true, is_all: false }) }),
    }),
    ...(look?.encryption && !isBusy && !isArmed && !ticket.closed_at && { key: () => setAsksKey(true) }),
    ...(order?.state === 'waiting' && { pause: () => steer('pause'), stop: () => steer('stop') }),
    ...(order?.state === 'paused' && { goOn: () => steer('go-on'), stop: () => steer('leave') }),
  }
  const targets = active === 'repair'
    ? (look?.groups ?? []).slice(0, 9).map((g) => () => { setLeft((l) => toggled(l, g.id)); setArmed(false) })
    : (look?.people ?? []).slice(0, 9).map((s) => () => setSkipped((k) => toggled(k, s.path)))
  const shown = look?.groups.find((g) => g.id === inHand) ?? null
  return (
    <InstrumentFrame
      page="volume" ticket={ticket} title={T.volumeTitle} on={on} targets={targets} reading={volumes?.source ? <Reading volumes={volumes} /> : T.volumeHint} error={error ?? change.error ?? steering.error} isWaiting={change.isPaused}
      tools={<><Do of="volume" id="disk" /><Do of="volume" id="nextVolume" /></>}
    >
      {!volumes ? <p className="pt-6 text-l text-soft">{T.loading}</p> : volumes.first === null ? <NothingYet of="volume" ticket={ticket.id} title={T.volumeNothing} hint={T.volumeNothingHint} /> : (
        <>
          <Verdict volumes={volumes} canLook={canAsk} asked={isArmed ? look?.groups.filter((g) => taken.includes(g.id)) ?? null : null} />
          {asksKey && <KeySheet ticket={ticket.id} volumes={volumes} onClose={() => setAsksKey(false)} />}
          {look && look.state !== 'locked' && <Skyline look={look} inHand={shown?.places ?? []} />}
          {look && look.state !== 'locked' && (
            <div className="mt-3 grid gap-x-8 gap-y-4 lg:grid-cols-2">
              <div>
                <Findings look={look} shows={showsAll} onShow={() => setShowsAll(true)} />
                {(look.groups.length > 0 || volumes.repairs.length > 0 || look.refused) && (
                  <Repair volumes={volumes} look={look} toggled={left} isActive={active === 'repair'} isArmed={isArmed} inHand={inHand} onToggle={(group) => { setLeft(toggled(left, group)); setArmed(false) }} onHand={(group) => setInHand(inHand === group ? null : group)} />
                )}
              </div>
              <Save ticket={ticket.id} volumes={volumes} look={look} chosen={chosen} isActive={active === 'save'} isAll={isAll} onToggle={(path) => setSkipped(toggled(skipped, path))} />
            </div>
          )}
        </>
      )}
    </InstrumentFrame>
  )
}

function Reading({ volumes }: { volumes: Volumes }) {
  const source = volumes.sources.find((s) => s.id === volumes.source)
  const piece = volumes.pieces.find((p) => p.first === volumes.first)
  return (
    <span>
      {source && (source.is_copy ? T.volumeCopyOf(source.name) : <><span className="font-mono">{source.id}</span> {source.name}</>)}
      {piece && ` · ${[T.volumePart(piece.number), piece.name && `“${piece.name}”`, piece.holds, bytes(piece.size)].filter(Boolean).join(', ')}`}
    </span>
  )
}
