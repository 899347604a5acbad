import { useEffect, useRef } from 'react'

export type Hotkeys = Record<string, (event: KeyboardEvent) => void>

function isTyping(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName))
}

/** Single keys of a page; silent while somebody types or a sheet is open (`isOn` false). */
export function useHotkeys(keys: Hotkeys, isOn = true): void {
  const latest = useRef(keys)
  latest.current = keys
  useEffect(() => {
    if (!isOn) return
    const handle = (event: KeyboardEvent) => {
      if (event.defaultPrevented || event.ctrlKey || event.metaKey || event.altKey || event.repeat || isTyping(event.target)) return
      const action = latest.current[event.key.length === 1 ? event.key.toLowerCase() : event.key]
      if (action) {
        event.preventDefault()
        action(event)
      }
    }
    window.addEventListener('keydown', handle)
    return () => window.removeEventListener('keydown', handle)
  }, [isOn])
}
