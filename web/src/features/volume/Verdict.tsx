import { useEffect, useRef } from 'react'

import type { RepairGroup, VolumeLook, Volumes } from '../../api/volumeQueries'
import { bytes, clock, minutes, percent } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'

const TONE: Record<string, string> = { clean: 'border-pine', dirty: 'border-ochre', damaged: 'border-brick', locked: 'border-ochre', unreadable: 'border-brick' }
const SHOWN = 4

/** In one sentence what the look found, and what goes on. */
export function Verdict({ volumes, canLook, asked }: { volumes: Volumes; canLook: boolean; asked: readonly RepairGroup[] | null }) {
  const { look, job } = volumes
  const box = useRef<HTMLElement>(null)
  // the question is looked at before it is answered
  const isAsking = asked !== null
  useEffect(() => { if (isAsking) box.current?.scrollIntoView({ block: 'nearest' }) }, [isAsking])
  const piece = volumes.pieces.find((p) => p.first === volumes.first)
  const isBusy = job !== null && job.problem === ''
  if (asked) {
    const lossy = asked.filter((g) => g.loses)
    return (
      <section ref={box} role="alert" data-state={look?.state ?? 'none'} className="border-l-[5px] border-ochre bg-sheet px-4 py-2.5">
        <p className="text-xl font-bold">{T.volumeAsk}</p>
        <p className="text-m">{T.volumeSure(asked.length, bytes(asked.reduce((n, g) => n + g.size, 0)), volumes.source.startsWith('copy-'))}</p>
        {lossy.map((g) => <p key={g.id} className="text-m"><strong className="text-brick">{T.volumeLoses}</strong> {g.doubts.join(' ')}</p>)}
        <div className="flex flex-wrap gap-x-5"><Do of="volume" id="write" strong /><Do of="volume" id="leave" /></div>
      </section>
    )
  }
  return (
    <section ref={box} aria-live="polite" data-state={look?.state ?? 'none'} data-job={isBusy ? job.what : ''} className={`border-l-[5px] bg-sheet px-4 py-2.5 ${isBusy ? 'border-indigo' : look ? TONE[look.state] : 'border-ochre'}`}>
      {isBusy ? <Going job={job} /> : (
        <p className="text-xl font-bold">{look ? look.verdict : T.volumeNotLooked(piece?.holds || (piece?.name && `“${piece.name}”`) || '', bytes(piece?.size ?? 0))}</p>
      )}
      {look && !isBusy && <p className="text-m text-soft">{summary(look)}</p>}
      {look?.encryption && !isBusy && <Encrypted look={look} hasKey={volumes.has_key} />}
      {look?.held_in && !isBusy && <p className="text-m" data-set={look.held_in.kind}>{T.volumeSet(look.held_in)}</p>}
      {!look && !isBusy && <p className="text-m text-soft">{T.volumeNotLookedHint}</p>}
      {look?.is_stale && !isBusy && <p className="text-m"><strong>{T.volumeStale}</strong></p>}
      {job?.problem && <p className="border-l-4 border-brick bg-paper px-3 py-1 text-m" role="alert"><strong>{T.volumeStages[job.stage] ?? job.stage}</strong>: {job.problem}</p>}
      {volumes.held.look && !isBusy && <p className="text-m"><strong>{T.readHeld}</strong>: {volumes.held.look}</p>}
      {!canLook && !volumes.linked && !isBusy && <p className="text-m text-soft">{T.volumeLinkFirst} <Do of="volume" id="link" strong label={T.connectFirst} /></p>}
      <div className="flex flex-wrap gap-x-5 empty:hidden">
        <Do of="volume" id="look" strong={!look} label={look ? T.volumeLookAgain : T.volumeLook} />
        <Do of="volume" id="key" strong={look?.state === 'locked'} label={volumes.has_key ? T.keyChange : T.volumeKey} />
        <Do of="volume" id="pause" /><Do of="volume" id="goOn" /><Do of="volume" id="stop" />
      </div>
    </section>
  )
}

/** How an encrypted volume was opened, or which key opens it. */
function Encrypted({ look, hasKey }: { look: VolumeLook; hasKey: boolean }) {
  const own = look.encryption
  if (!own) return null
  const by = own.keys.find((k) => k.id === own.opened_by)
  const usable = own.keys.filter((k) => k.opens)
  const rest = own.keys.filter((k) => !k.opens).map((k) => k.name)
  return (
    <div className="text-m" data-encryption={own.opened_by ? 'open' : 'locked'}>
      {own.opened_by
        ? <p>{T.keyOpenedBy(by ? (T.keyKinds[by.how] ?? by.name) : own.name)} {hasKey ? T.keyMemory : T.keyGone}</p>
        : usable.map((k) => <p key={k.id}>{T.keyKinds[k.how] ?? k.name} <span className="break-all font-mono font-semibold">{k.id}</span></p>)}
      {!own.opened_by && usable.length === 0 && <p>{T.keyNoneHere}</p>}
      {!own.opened_by && rest.length > 0 && <p className="text-soft">{T.keyNotHere(rest)}</p>}
    </div>
  )
}

function Going({ job }: { job: NonNullable<Volumes['job']> }) {
  const share = job.of > 0 ? Math.min(1, job.done / job.of) : 0
  return (
    <>
      <p className="text-xl font-bold">{T.volumeJobs[job.what] ?? job.what}</p>
      <p className="text-m text-soft">{T.volumeStages[job.stage] ?? job.stage}{job.of > 0 && (job.stage === 'records' ? ` · ${percent(share)}` : ` · ${bytes(job.done)} / ${bytes(job.of)}`)}</p>
      <div className="mt-1 h-1.5 w-full max-w-md bg-line" role="progressbar" aria-label={T.volumeJobs[job.what]} aria-valuenow={Math.round(share * 100)} aria-valuemin={0} aria-valuemax={100}>
        <div className="h-full bg-ink" style={{ width: `${share * 100}%` }} />
      </div>
    </>
  )
}

function summary(look: VolumeLook): string {
  const systems = look.systems.map((s) => [s.name, s.version].filter(Boolean).join(' ')).join(', ')
  const parts = [
    look.label && `“${look.label}”`, systems, look.used !== null && T.volumeUsed(bytes(look.used), bytes(look.size)), look.files !== null && T.volumeFiles(look.files),
    look.files !== null && look.state !== 'clean' && T.volumeChecker(minutes(look.repair_minutes)), T.atBy(clock(look.at), look.by),
  ]
  return parts.filter(Boolean).join(' · ')
}

/** What does not fit, worst first; many alike are told once. */
export function Findings({ look, shows, onShow }: { look: VolumeLook; shows: boolean; onShow: () => void }) {
  const telling = look.findings.filter((f) => f.severity !== 'note')
  if (telling.length === 0) return look.state === 'clean' ? <p className="mt-2 text-m text-soft">{T.volumeAllFits}</p> : null
  const shown = shows ? telling : telling.slice(0, SHOWN)
  return (
    <section className="mt-3" aria-label={T.volumeFindings} data-findings>
      <h2 className="text-l font-bold">{T.volumeFindings}</h2>
      <ul className="text-m">{shown.map((f, n) => <li key={n} className="break-words py-0.5">{f.text}</li>)}</ul>
      {telling.length > SHOWN && !shows && <button type="button" className="touch min-h-9 text-m text-indigo" onClick={onShow}>{T.volumeMoreFindings(telling.length - SHOWN)}</button>}
    </section>
  )
}
