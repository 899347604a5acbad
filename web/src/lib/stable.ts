import { useRef, useState } from 'react'

type Handlers = Record<string, (...args: never[]) => unknown>

/** The same functions at every render, each calling the latest handler: memoised panes keep still while others change. */
export function useStable<T extends Handlers>(handlers: T): T {
  const latest = useRef(handlers)
  latest.current = handlers
  const [stable] = useState(() => {
    const made: Record<string, unknown> = {}
    for (const name of Object.keys(handlers)) {
      made[name] = (...args: never[]) => latest.current[name]?.(...args)
    }
    return made as T
  })
  return stable
}
