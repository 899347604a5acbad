import { useState } from 'react'

import type { Ticket } from '../../api/client'
import { usePath, usePathChange, type Path } from '../../api/pathQueries'
import { useLink, useTicket } from '../../api/queries'
import { bytes } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { initials } from '../../lib/person'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { InstrumentFrame, NothingYet } from '../instrument'
import { PathVerdict } from './PathVerdict'
import { Plans } from './Plans'
import { StopBytes } from './StopBytes'
import { Walk } from './Walk'

/** What the disk offers this firmware: its walk step by step to where it stops, the bytes there, and what can be mended. */
export function PathInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenPath ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenPath({ ticket }: { ticket: Ticket }) {
  const [device, setDevice] = useState('')
  const [mode, setMode] = useState('')
  const [unfolds, setUnfolds] = useState<boolean | null>(null)
  const [plan, setPlan] = useState<string | null>(null)
  const [isArmed, setArmed] = useState(false)
  const { data: link } = useLink(ticket.id)
  const { data: path, error } = usePath(ticket.id, device, mode)
  const change = usePathChange(ticket.id)
  const waits = path === undefined || path.reading !== null || (link?.orders.some((o) => o.state === 'waiting' || o.state === 'paused') ?? false)
  const isOpen = unfolds ?? path?.plans.length === 0
  const canAsk = link?.state === 'linked' && !waits && !ticket.closed_at && !change.isPending
  const chosen = path?.plans.find((p) => p.id === plan) ?? path?.plans.find((p) => p.boots_after) ?? path?.plans[0] ?? null
  const standing = path?.mends.find((m) => m.can_take_back && m.reverts === null)
  const pick = (id: string) => { setPlan(id); setArmed(false) }
  const others = path?.disks.filter((d) => d.disk !== path.disk) ?? []
  const nextDisk = () => {
    const all = path!.disks
    setDevice(all[(all.findIndex((d) => d.disk === path!.disk) + 1) % all.length]!.disk)
    setPlan(null)
  }
  const ask = (what: Parameters<typeof change.mutate>[0]['ask']) => { setArmed(false); change.mutate({ ask: what, by: initials() }) }
  const on: Handlers<'path'> = {
    ...(path?.stop && { unfold: () => setUnfolds(!isOpen) }),
    ...(others.length > 0 && { disk: nextDisk }),
    ...(path && path.disk && { mode: () => { setMode(path.mode === 'uefi' ? 'bios' : 'uefi'); setPlan(null) } }),
    ...(canAsk && path && path.unread > 0 && path.held === '' && { read: () => ask({ to: 'read', device: path.disk }) }),
    ...(canAsk && chosen && chosen.held === '' && (isArmed
      ? { write: () => ask({ to: 'mend', device: path!.disk, plan: chosen.id, mode: path!.mode }), leave: () => setArmed(false) }
      : { mend: () => { setPlan(chosen.id); setArmed(true) } })),
    ...(canAsk && standing && { takeBack: () => ask({ to: 'take-back', order: standing.order }) }),
  }
  return (
    <InstrumentFrame
      page="path" ticket={ticket} title={T.pathTitle} on={on} targets={(path?.plans ?? []).slice(0, 9).map((p) => () => pick(p.id))}
      reading={path?.disk ? <Reading path={path} /> : T.pathHint} error={error ?? change.error} isWaiting={change.isPaused}
      tools={<><Do of="path" id="disk" /><Do of="path" id="mode" label={path?.mode === 'bios' ? T.pathAsUefi : T.pathAsLegacy} /></>}
    >
      {!path ? <p className="pt-6 text-l text-soft">{T.loading}</p> : !path.disk ? <NothingYet of="path" ticket={ticket.id} title={T.pathNothing} hint={T.pathNothingHint} hintLinked={T.pathNothingLinked} /> : (
        <>
          <PathVerdict path={path} link={link} chosen={isArmed ? chosen : null} canAsk={canAsk} />
          <div className="mt-3"><Walk path={path} isOpen={isOpen} onStop={() => setUnfolds(!isOpen)} /></div>
          {path.stop && isOpen && <StopBytes stop={path.stop} />}
          <div className="mt-1 flex flex-wrap gap-x-5"><Do of="path" id="unfold" label={isOpen ? T.pathFold : T.pathUnfold} /></div>
          <Plans path={path} chosen={chosen} isArmed={isArmed} onPick={pick} />
        </>
      )}
    </InstrumentFrame>
  )
}

function Reading({ path }: { path: Path }) {
  const name = path.disks.find((d) => d.disk === path.disk)?.name
  const parts = [bytes(path.sectors * path.sector), T.pathModes[path.mode], path.mode === 'uefi' && (path.entries ? T.pathEntries : T.pathNoEntries), path.secure && T.pathSecure]
  return <span><span className="font-mono">{path.disk}</span> {name} · {parts.filter(Boolean).join(' · ')}</span>
}
