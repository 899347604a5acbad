import { useEffect, useState } from 'react'

import type { Running } from '../api/client'

export interface Progress {
  /** Share that should be done by now, 0 to 1. */
  share: number
  minutesLeft: number
}

/** How far a move that runs on its own should be; ticks every ten seconds. */
export function useProgress(running: Running | null | undefined): Progress | null {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    if (!running) return
    const timer = setInterval(() => setNow(Date.now()), 10_000)
    return () => clearInterval(timer)
  }, [running])
  if (!running || running.minutes <= 0) return null
  const gone = (now - new Date(running.started_at).getTime()) / 60_000
  return { share: Math.min(1, Math.max(0, gone / running.minutes)), minutesLeft: running.minutes - gone }
}
