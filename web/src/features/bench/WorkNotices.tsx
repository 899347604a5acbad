import { useEffect, useRef } from 'react'

import type { BenchRow } from '../../api/client'
import { useBench } from '../../api/queries'
import { T } from '../../words'

type Situation = 'none' | 'runs' | 'paused' | 'stalls' | 'hot'

function situation(row: BenchRow): Situation {
  const link = row.link
  if (link?.paused) return 'paused'
  if (!link?.work) return row.running ? 'runs' : 'none'
  return link.stalls ? 'stalls' : link.hot ? 'hot' : 'runs'
}

/** Can this browser tell of work that ended, and was it not asked yet? */
export const mayAskToTell = (): boolean => 'Notification' in window && Notification.permission === 'default'

export const askToTell = (): void => {
  if ('Notification' in window) void Notification.requestPermission()
}

/** Tells of work that ended, was paused, stalls or waits for the drive to cool, whatever page is open. */
export function WorkNotices() {
  const { data } = useBench()
  const before = useRef<Map<number, Situation>>(new Map())
  useEffect(() => {
    const now = new Map<number, Situation>()
    for (const row of data?.rows ?? []) {
      const is = situation(row)
      const was = before.current.get(row.id)
      now.set(row.id, is)
      const says = was === undefined || was === is || was === 'none' ? null : is === 'none' ? T.workEnded : is === 'runs' ? null : { paused: `${T.readPaused}: ${row.link?.paused ?? ''}`, stalls: T.workStalls, hot: T.workHot }[is]
      if (says && 'Notification' in window && Notification.permission === 'granted') new Notification(`${row.bay ?? ''} ${row.machine}`.trim(), { body: says, tag: `gatecheck-${row.id}` })
    }
    before.current = now
  }, [data])
  return null
}
