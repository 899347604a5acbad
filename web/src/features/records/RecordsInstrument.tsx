import { useState } from 'react'

import { useLink, useTicket } from '../../api/queries'
import type { Ticket } from '../../api/client'
import { useRecords, useVolumeChange, useVolumes, type SystemEvent, type SystemRecords, type VolumeAsk, type VolumeRepair } from '../../api/volumeQueries'
import type { Handlers } from '../../lib/keymap'
import { initials } from '../../lib/person'
import { percent } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { InstrumentFrame } from '../instrument'
import { Written } from '../volume'
import { TimeLine } from './TimeLine'
import { marks, moment, SPANS } from './timeline'

/** What the installed system has written down of itself: one sentence, what it rests on, and its diary as a line of time. */
export function RecordsInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenRecords ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenRecords({ ticket }: { ticket: Ticket }) {
  const [place, setPlace] = useState<{ source: string; first: number | null }>({ source: '', first: null })
  const [zoom, setZoom] = useState(1)
  const [inHand, setInHand] = useState<SystemEvent | null>(null)
  const [isArmed, setArmed] = useState(false)
  const { data: link } = useLink(ticket.id)
  const { data: volumes, error } = useVolumes(ticket.id, place.source, place.first)
  const { data: records } = useRecords(ticket.id, volumes)
  const change = useVolumeChange(ticket.id, volumes)
  const job = volumes?.job ?? null
  const isBusy = job !== null && job.problem === ''
  const isCopy = volumes?.source.startsWith('copy-') ?? false
  const canAsk = volumes !== undefined && volumes.first !== null && !isBusy && !change.isPending && (isCopy || (link?.state === 'linked' && !ticket.closed_at && !link.orders.some((o) => o.state === 'waiting')))
  const events = records ? marks(records.events) : []
  const at = inHand ? events.indexOf(inHand) : -1
  const step = (by: number) => { const next = events[at < 0 ? (by < 0 ? events.length - 1 : 0) : at + by]; if (next) setInHand(next) }
  const nextPiece = () => {
    if (!volumes) return
    const own = volumes.pieces.findIndex((p) => p.first === volumes.first)
    setInHand(null)
    setArmed(false)
    setPlace({ source: volumes.source, first: volumes.pieces[(own + 1) % volumes.pieces.length]!.first })
  }
  const ask = (what: VolumeAsk) => { setArmed(false); change.mutate({ ask: what, by: initials() }) }
  const plans = records && !records.is_stale ? records.repairs : []
  const standing = volumes?.repairs.find((r) => r.can_take_back && !r.reverts)
  const canWrite = canAsk && plans.length > 0 && volumes.held.repair === ''
  const asked = isArmed && canWrite ? plans : null
  const on: Handlers<'records'> = {
    ...(canAsk && !asked && { read: () => ask({ to: 'records' }) }),
    ...(canWrite && (asked ? { write: () => ask({ to: 'repair', groups: plans.map((p) => p.id) }), leave: () => setArmed(false) } : { repair: () => setArmed(true) })),
    ...(canAsk && standing && !asked && { takeBack: () => ask({ to: 'take-back', id: standing.id }) }),
    ...(volumes && volumes.pieces.length > 1 && { nextVolume: nextPiece }),
    ...(events.length > 0 && { before: () => step(-1), next: () => step(1) }),
    ...(records && records.events.length > 1 && { closer: () => setZoom(Math.min(zoom + 1, SPANS.length - 1)), wider: () => setZoom(Math.max(zoom - 1, 0)) }),
  }
  const piece = volumes?.pieces.find((p) => p.first === volumes.first)
  return (
    <InstrumentFrame
      page="records" ticket={ticket} title={T.recordsTitle} on={on} reading={piece ? [volumes?.source, piece.name && `“${piece.name}”`, piece.holds].filter(Boolean).join(' · ') : T.recordsHint}
      error={error ?? change.error} isWaiting={change.isPaused} tools={<Do of="records" id="nextVolume" />}
    >
      {asked ? <Question plans={asked} isCopy={isCopy} /> : <section aria-live="polite" data-records={records ? 'read' : 'none'} className={`border-l-[5px] bg-sheet px-4 py-2.5 ${isBusy ? 'border-indigo' : 'border-ink'}`}>
        <p className="text-xl font-bold">{isBusy ? (job.what === 'records' ? T.recordsReading : T.volumeJobs[job.what] ?? job.what) : records ? records.sentence : T.recordsNone}</p>
        {records && !isBusy && <p className="text-s text-soft">{T.recordsBy(moment(records.at), records.by)}</p>}
        {!records && !isBusy && <p className="text-m text-soft">{canAsk ? T.recordsNoneHint : T.volumeLinkFirst}</p>}
        {records?.is_stale && <p className="text-m"><strong>{T.volumeStale}</strong></p>}
        {job?.problem && <p role="alert" className="text-m text-brick">{job.problem}</p>}
        {!canAsk && !isBusy && !isCopy && link?.state !== 'linked' && !ticket.closed_at && <Do of="records" id="link" strong label={T.connectFirst} />}
        <Do of="records" id="read" strong={!records} label={records ? T.recordsAgain : T.recordsRead} />
      </section>}
      {records && <Plans plans={plans} held={volumes?.held.repair ?? ''} refused={records.not_repaired} written={volumes?.repairs ?? []} />}
      {records && records.events.length > 0 && (
        <>
          <TimeLine events={records.events} span={SPANS[zoom]!} inHand={inHand} onHand={setInHand} />
          <div className="flex flex-wrap items-center gap-x-5 gap-y-1">
            <Do of="records" id="before" /><Do of="records" id="next" /><Do of="records" id="closer" /><Do of="records" id="wider" />
          </div>
          <p className="min-h-7 break-words text-m" role="status" data-inhand={inHand?.kind ?? ''}>{inHand && <Told event={inHand} />}</p>
        </>
      )}
      {records && <Facts records={records} />}
    </InstrumentFrame>
  )
}

/** Asked before anything is written to the system, with what is lost by it. */
function Question({ plans, isCopy }: { plans: SystemRecords['repairs']; isCopy: boolean }) {
  return (
    <section role="alert" data-records="asked" className="border-l-[5px] border-ochre bg-sheet px-4 py-2.5">
      <p className="text-xl font-bold">{T.volumeAsk}</p>
      {plans.map((p) => <p key={p.id} className="text-m">{p.what}</p>)}
      {plans.flatMap((p) => p.doubts).map((doubt) => <p key={doubt} className="text-m"><strong className="text-ochre">{T.pathDoubt}</strong> {doubt}</p>)}
      <p className="text-m text-soft">{T.recordsSure(isCopy)}</p>
      <div className="flex flex-wrap gap-x-5"><Do of="records" id="write" strong /><Do of="records" id="leave" /></div>
    </section>
  )
}

/** What the records make possible to repair, and what was written. */
function Plans({ plans, held, refused, written }: { plans: SystemRecords['repairs']; held: string; refused: string; written: readonly VolumeRepair[] }) {
  if (plans.length === 0 && written.length === 0 && !refused) return null
  return (
    <section aria-label={T.volumeRepair} className="mt-3 border-t-2 border-line pt-2" data-repair>
      <h2 className="text-l font-bold">{T.volumeRepair}</h2>
      {refused && <p className="border-l-4 border-brick bg-sheet px-3 py-1.5 text-m">{refused}</p>}
      <ul className="text-m">{plans.map((p) => <li key={p.id} data-group={p.id} className="py-0.5"><strong>{p.what}</strong>{p.doubts.map((doubt) => <span key={doubt} className="block"><span className="font-bold text-ochre">{T.pathDoubt}</span> {doubt}</span>)}</li>)}</ul>
      {plans.length > 0 && (held ? <p className="mt-1 border-l-4 border-brick bg-sheet px-3 py-1.5 text-m"><strong>{T.pathHeld}</strong>: {held} <Do of="records" id="facts" label={T.unblockFacts} /></p> : <Do of="records" id="repair" strong />)}
      <Written of="records" repairs={written} />
    </section>
  )
}

function Told({ event }: { event: SystemEvent }) {
  const source = [event.source, event.id].filter((v) => v !== null && v !== '').join(' ')
  return <><strong>{moment(event.at ?? '')}</strong> {event.text}{event.count > 1 && ` · ${T.recordsTimes(event.count)}`}{source && <span className="text-soft"> · {source}</span>}</>
}

function Facts({ records }: { records: SystemRecords }) {
  const torn = records.logs.filter((log) => log.torn.length > 0)
  return (
    <div className="mt-3 grid gap-x-8 gap-y-4 lg:grid-cols-2">
      <section aria-label={T.recordsFindings}>
        <h2 className="text-l font-bold">{T.recordsFindings}</h2>
        {records.findings.length === 0 && <p className="text-m text-soft">{records.systems.length > 0 ? T.recordsNoFindings : torn.length > 0 ? T.recordsNotRead : T.recordsNoSystem}</p>}
        <ul className="text-m">{records.findings.map((f) => <li key={f.id + f.text} className="flex gap-3 py-0.5"><span className="w-12 shrink-0 text-right text-soft">{percent(f.weight)}</span><span className="min-w-0 break-words">{f.text}</span></li>)}</ul>
      </section>
      <section aria-label={T.recordsSystems}>
        <h2 className="text-l font-bold">{T.recordsSystems}</h2>
        {records.systems.map((s) => (
          <dl key={s.root} className="mb-2 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 text-m">
            {T.recordsFacts(s).map(([name, value]) => <div key={name} className="contents"><dt className="text-soft">{name}</dt><dd className="break-words">{value}</dd></div>)}
          </dl>
        ))}
        {torn.length > 0 && <><h3 className="text-m font-bold">{T.recordsTorn}</h3><ul className="text-m">{torn.map((log) => <li key={log.path} className="break-words">{[log.path.split('/').at(-1), log.torn.join('; ')].filter(Boolean).join(': ')}</li>)}</ul></>}
      </section>
    </div>
  )
}
