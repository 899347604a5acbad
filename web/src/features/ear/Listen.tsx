import { useEffect, useRef, useState } from 'react'

import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { listen, type Listening } from './audio'

export const LISTEN_SECONDS = 14
const READY_SECONDS = 3

export interface Recorder { state: 'idle' | 'asking' | 'ready' | 'runs'; level: number; left: number; error: string; start: () => void; stop: () => void }

/** The microphone: asked for, three seconds to hold it to the drive, then "power on now" and the recording, which ends by itself. */
export function useRecorder(onDone: (file: File) => void): Recorder {
  const [state, setState] = useState<Recorder['state']>('idle')
  const [level, setLevel] = useState(0)
  const [left, setLeft] = useState(0)
  const [error, setError] = useState('')
  const own = useRef<Listening | null>(null)
  const timer = useRef(0)
  const finish = async () => {
    window.clearInterval(timer.current)
    const heard = own.current
    own.current = null
    setState('idle')
    if (heard) onDone(new File([await heard.stop()], `${T.earFile}-${new Date().toISOString().slice(11, 19).replaceAll(':', '')}.wav`, { type: 'audio/wav' }))
  }
  useEffect(() => () => { window.clearInterval(timer.current); void own.current?.stop() }, [])
  const count = (from: number, then: () => void) => {
    let n = from
    setLeft(n)
    window.clearInterval(timer.current)
    timer.current = window.setInterval(() => { n -= 1; setLeft(n); if (n <= 0) { window.clearInterval(timer.current); then() } }, 1000)
  }
  const start = () => {
    setError('')
    setState('asking')
    listen(setLevel).then(
      (heard) => { own.current = heard; setState('ready'); count(READY_SECONDS, () => { setState('runs'); count(LISTEN_SECONDS, () => void finish()) }) },
      (failed: Error) => { setState('idle'); setError(failed.name === 'NotAllowedError' ? T.earNotAllowed : failed.name === 'NotFoundError' ? T.earNoMicrophone : failed.message) },
    )
  }
  return { state, level, left, error, start, stop: () => void finish() }
}

/** What is being recorded, large enough to be read beside the machine. */
export function ListenStrip({ recorder }: { recorder: Recorder }) {
  if (recorder.state === 'idle') return recorder.error ? <p className="mb-2 border-l-4 border-brick bg-sheet px-3 py-1.5 text-m" role="alert">{recorder.error}</p> : null
  const words = { asking: T.earAsking, ready: T.earHold(recorder.left), runs: T.earPowerOn(recorder.left) }[recorder.state]
  return (
    <div className="mb-3 border-l-[5px] border-ochre bg-sheet px-4 py-2" role="status" data-listening={recorder.state}>
      <p className="text-xl font-bold">{words}</p>
      <div className="mt-2 h-3 w-full bg-hair" role="meter" aria-label={T.earLevel} aria-valuemin={0} aria-valuemax={100} aria-valuenow={Math.round(recorder.level * 100)}>
        <div className={`h-3 ${recorder.level > 0.98 ? 'bg-brick' : 'bg-ink'}`} style={{ width: `${Math.min(100, Math.sqrt(recorder.level) * 100)}%` }} />
      </div>
      <p className="mt-1 text-m text-soft">{recorder.level > 0.98 ? T.earTooLoud : T.earNear}</p>
      <Do of="ear" id="stop" />
    </div>
  )
}
