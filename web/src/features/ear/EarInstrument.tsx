import { useEffect, useRef, useState } from 'react'

import type { Ticket } from '../../api/client'
import { recordingUrl, referenceUrl, useEar, useEarChange, type Recording } from '../../api/earQueries'
import { useAppend, useTicket } from '../../api/queries'
import { clock, percent, requestKey } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { initials } from '../../lib/person'
import { Do } from '../../ui/Commands'
import { play, stopPlaying } from '../../lib/playing'
import { T } from '../../words'
import { InstrumentFrame } from '../instrument'
import { asWav, mayListen } from './audio'
import { Folded, Loud } from './Folded'
import { ListenStrip, useRecorder } from './Listen'
import { OverruleSheet } from './OverruleSheet'
import { Stopwatch, useWatch } from './Stopwatch'
import { Trace } from './Trace'

const AROUND = 0.25
const SLOWER = 0.4
/** A start longer ago than this is not one that somebody still waits for. */
const RECENT_MS = 10 * 60_000

/** What the drive sounds like and what it draws: recorded here or dropped, seen by its rhythm, heard beside the sounds that one should know. */
export function EarInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenEar ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenEar({ ticket }: { ticket: Ticket }) {
  const { data: ear, error } = useEar(ticket.id)
  const change = useEarChange(ticket.id, initials())
  const [chosen, setChosen] = useState<string | null>(null)
  const [at, setAt] = useState(-1)
  const [isOverruling, setOverruling] = useState(false)
  const append = useAppend(ticket.id)
  const [failed, setFailed] = useState<Error | null>(null)
  const input = useRef<HTMLInputElement>(null)
  const watch = useWatch(ticket.id)
  const isOpen = !ticket.closed_at
  const keep = (file: File) => {
    setFailed(null)
    asWav(file).then((wav) => { setChosen(null); setAt(-1); change.mutate({ file: wav, key: requestKey() }) }, () => setFailed(new Error(T.earNotOpened(file.name))))
  }
  const recorder = useRecorder(keep)
  const [poweredOn, setPoweredOn] = useState<number | null>(null)
  useEffect(() => { if (recorder.state === 'runs') setPoweredOn(Date.now()) }, [recorder.state])
  const hello = ticket.tape.findLast((e) => e.stands && e.body['move'] === 'live-start')
  const isRecent = (at: number | null): at is number => at !== null && Date.now() - at < RECENT_MS
  const answered = hello ? Date.parse(hello.made_at) : null
  const recordings = ear?.recordings ?? []
  const own = recordings.find((r) => r.sha256 === chosen) ?? recordings[0] ?? null
  const sound = own?.kind === 'sound' ? own : null
  const url = own ? recordingUrl(ticket.id, own.sha256) : ''
  const pick = (index: number) => {
    if (!sound || sound.events.length === 0) return
    const next = Math.max(0, Math.min(sound.events.length - 1, index))
    setAt(next)
    play(url, Math.max(0, sound.events[next]!.at - AROUND), 2 * AROUND, 1)
  }
  const runs = recorder.state !== 'idle'
  const move = own?.kind === 'supply' ? 'supply-trace' : 'sound'
  const heard = ticket.tape.find((e) => e.stands && e.from_file === own?.sha256 && e.body['move'] === move)
  const on: Handlers<'ear'> = {
    ...(isOpen && !runs && mayListen() && { listen: recorder.start }), ...(runs && recorder.state !== 'asking' && { stop: recorder.stop }),
    ...(isOpen && !runs && { file: () => input.current?.click() }),
    ...(isOpen && ear?.practice && !change.isPending && { practice: () => change.mutate({ practice: true }) }),
    ...(sound && { play: () => play(url), slower: () => (at >= 0 ? play(url, Math.max(0, sound.events[at]!.at - AROUND), 2 * AROUND, SLOWER) : play(url, 0, null, SLOWER)), quiet: stopPlaying }),
    ...(sound && sound.events.length > 0 && { before: () => pick(at - 1), next: () => pick(at + 1) }),
    ...(isOpen && own?.outcome && heard && { overrule: () => setOverruling(true) }),
    ...(recordings.length > 1 && { other: () => { setChosen(recordings[(recordings.findIndex((r) => r === own) + 1) % recordings.length]!.sha256); setAt(-1) } }),
    ...(isOpen && { watch: () => (watch.since === null ? watch.start() : change.mutate({ seconds: watch.stop(), waited: 0 })) }),
    ...(isOpen && watch.since === null && isRecent(poweredOn) && { fromSound: () => watch.start(poweredOn) }),
    ...(isOpen && watch.since === null && isRecent(answered) && { fromLink: () => watch.start(answered) }),
    ...(watch.since !== null && { drop: () => void watch.stop() }),
    ...(isOpen && watch.since !== null && ear && watch.seconds >= ear.never && { never: () => change.mutate({ seconds: null, waited: watch.stop() }) }),
  }
  const references = ear?.references ?? []
  return (
    <InstrumentFrame
      page="ear" ticket={ticket} title={T.earTitle} on={on} targets={references.map((r) => () => play(referenceUrl(r.outcome)))} isOn={!isOverruling} error={failed ?? error ?? change.error ?? append.error} isWaiting={change.isPaused} onFile={keep}
      reading={own ? <span>{own.name} · {T.atBy(clock(own.at), own.by)}</span> : T.earHint} tools={<Do of="ear" id="other" label={T.earOther(recordings.length)} />} aside={<References references={references} />}
    >
      <input ref={input} type="file" accept="audio/*,.wav,.csv,text/csv" className="hidden" aria-label={T.earDrop} onChange={(e) => { const file = e.target.files?.[0]; if (file) keep(file); e.target.value = '' }} />
      <ListenStrip recorder={recorder} />
      {!runs && isOpen && (
        <div className="mb-3 flex flex-wrap items-baseline gap-x-5">
          <Do of="ear" id="listen" strong={recordings.length === 0} /><Do of="ear" id="file" /><Do of="ear" id="practice" />
          {!mayListen() && <span className="text-m text-soft">{T.earNotSecure}</span>}
        </div>
      )}
      {ear?.silent_kind && <p className="mb-2 border-l-4 border-ochre bg-sheet px-3 py-1.5 text-m">{T.earSilentKind}</p>}
      {own ? <Judged own={own} at={at} onPick={pick} /> : ear && <p className="py-6 text-l text-soft">{T.earNothing}</p>}
      {ear && <Stopwatch watch={watch} never={ear.never} />}
      {isOverruling && own && heard && (
        <OverruleSheet
          recording={own} move={move} onClose={() => setOverruling(false)}
          onOverrule={(outcome, reason) => { append.mutate({ entries: [{ undo: heard.place }, { move, outcome, note: reason }], key: requestKey() }); setOverruling(false) }}
        />
      )}
    </InstrumentFrame>
  )
}

function Judged({ own, at, onPick }: { own: Recording; at: number; onPick: (index: number) => void }) {
  return (
    <>
      <section aria-live="polite" data-heard={own.outcome ?? 'none'} className="border-l-[5px] border-ink bg-sheet px-4 py-2.5">
        <p className="text-xl font-bold">{own.verdict}{own.weights[0] && own.outcome && <span className="ml-3 text-l font-normal text-soft">{percent(own.weights[0].share)}</span>}</p>
        <ul className="text-m text-soft">{own.why.map((w) => <li key={w}>{w}</li>)}</ul>
        {own.weights.length > 1 && <p className="text-s text-soft">{T.earElse} {own.weights.slice(1, 4).map((w) => `${w.says} ${percent(w.share)}`).join(' · ')}</p>}
      </section>
      <div className="mt-3">
        {own.kind === 'sound' ? <><Folded recording={own} at={at} onPick={onPick} /><Loud recording={own} at={at} /></> : <Trace recording={own} />}
      </div>
      <div className="mt-1 flex flex-wrap gap-x-5"><Do of="ear" id="play" /><Do of="ear" id="slower" /><Do of="ear" id="before" /><Do of="ear" id="next" /><Do of="ear" id="quiet" /><Do of="ear" id="overrule" /></div>
    </>
  )
}

/** The sounds that one should know, made by the program itself. */
function References({ references }: { references: { outcome: string; says: string }[] }) {
  return (
    <section aria-label={T.earReferences}>
      <h2 className="text-m font-bold">{T.earReferences}</h2>
      <p className="text-s text-soft">{T.earReferencesHint}</p>
      <ol className="mt-1">
        {references.map((r, index) => (
          <li key={r.outcome}>
            <button type="button" onClick={() => play(referenceUrl(r.outcome))} className="touch flex min-h-11 w-full items-baseline gap-3 text-left text-m text-indigo"><span className="font-bold">{index + 1}</span>{r.says}</button>
          </li>
        ))}
      </ol>
    </section>
  )
}
