import { useCallback, useEffect, useRef, useState } from 'react'

const KEPT_AFTER_MS = 1000

export type Drafts = Readonly<Record<string, string>>

/**
 * Values that were just set and may still be walked on: a row is kept a second after its last key, all of them when the
 * page is left. `onKeep` gets each row once.
 */
export function useDrafts(onKeep: (row: string, value: string) => void) {
  const [drafts, setDrafts] = useState<Drafts>({})
  const keep = useRef(onKeep)
  keep.current = onKeep
  const waiting = useRef(new Map<string, { value: string; timer: number }>())
  const flush = () => {
    for (const [row, { value, timer }] of waiting.current) {
      clearTimeout(timer)
      keep.current(row, value)
    }
    waiting.current.clear()
  }
  useEffect(() => {
    window.addEventListener('pagehide', flush)
    return () => {
      window.removeEventListener('pagehide', flush)
      flush()
    }
  }, [])
  const set = (row: string, value: string) => {
    clearTimeout(waiting.current.get(row)?.timer)
    const timer = window.setTimeout(() => {
      waiting.current.delete(row)
      keep.current(row, value)
    }, KEPT_AFTER_MS)
    waiting.current.set(row, { value, timer })
    setDrafts((d) => ({ ...d, [row]: value }))
  }
  const settle = useCallback((rows: readonly string[]) => {
    setDrafts((d) => {
      const gone = rows.filter((row) => row in d && !waiting.current.has(row))
      return gone.length ? Object.fromEntries(Object.entries(d).filter(([row]) => !gone.includes(row))) : d
    })
  }, [])
  return { drafts, set, flush, settle }
}
