import { useEffect, useState } from 'react'

import { Do } from '../../ui/Commands'
import { T } from '../../words'

export interface Watch { since: number | null; seconds: number; start: (at?: number) => void; stop: () => number }

const stored = (ticket: number): string => `gatecheck-ready-${ticket}`

/** Seconds since power on; it goes on over a reload. */
export function useWatch(ticket: number): Watch {
  const [since, setSince] = useState<number | null>(() => Number(sessionStorage.getItem(stored(ticket))) || null)
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    if (since === null) return
    const timer = window.setInterval(() => setNow(Date.now()), 200)
    return () => window.clearInterval(timer)
  }, [since])
  return {
    since, seconds: since === null ? 0 : Math.max(0, (now - since) / 1000),
    start: (at = Date.now()) => { sessionStorage.setItem(stored(ticket), String(at)); setNow(Date.now()); setSince(at) },
    stop: () => { const took = since === null ? 0 : (Date.now() - since) / 1000; sessionStorage.removeItem(stored(ticket)); setSince(null); return took },
  }
}

/** How long until it is ready: one key at power on, one when it answers; a warning before the four minutes are over. */
export function Stopwatch({ watch, never }: { watch: Watch; never: number }) {
  const left = never - watch.seconds
  return (
    <section className="mt-5" aria-label={T.readyTitle} data-watch={watch.since === null ? 'idle' : left <= 0 ? 'never' : left <= 30 ? 'warns' : 'runs'}>
      <h2 className="text-l font-bold">{T.readyTitle}</h2>
      {watch.since === null ? <p className="text-m text-soft">{T.readyHint(Math.round(never / 60))}</p> : (
        <p className="text-xl font-bold tabular-nums">{Math.floor(watch.seconds / 60)}:{String(Math.floor(watch.seconds % 60)).padStart(2, '0')}
          {left <= 30 && <span className="ml-4 text-l text-brick" role="alert">{left <= 0 ? T.readyOff : T.readyWarn(Math.ceil(left))}</span>}
        </p>
      )}
      <div className="flex flex-wrap gap-x-5"><Do of="ear" id="watch" label={watch.since === null ? T.readyStart : T.readyNow} strong={watch.since !== null} /><Do of="ear" id="never" /><Do of="ear" id="fromSound" /><Do of="ear" id="fromLink" /><Do of="ear" id="drop" /></div>
    </section>
  )
}
