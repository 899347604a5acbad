import { useEffect, useRef } from 'react'

import { keyOfEvent } from './keymap'

export type Hotkeys = Record<string, (event: KeyboardEvent) => void>

/** How long a key that was pressed while nothing could take it waits for the page to come. */
const WAITS_MS = 4000
const MOST_WAITING = 4

interface Waiting { event: KeyboardEvent; at: number }

const waiting: Waiting[] = []
/** the sheet that lies over every page and takes all keys, as a question for a PIN does */
let alone: object | null = null
/** pages and sheets that are there, whether they take keys now or not */
let there = 0

function isTyping(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName))
}

const isPlain = (event: KeyboardEvent): boolean => !(event.defaultPrevented || event.ctrlKey || event.metaKey || event.altKey || event.repeat || isTyping(event.target))

/** A key is kept for the page that is still loading: for none other, and not for long. */
const isLoading = (): boolean => there === 0 || document.querySelector('[data-loading]') !== null

function keep(event: KeyboardEvent): void {
  if (!isPlain(event) || !isLoading() || (event.key.length > 1 && !event.key.startsWith('Arrow'))) return
  waiting.push({ event, at: Date.now() })
  if (waiting.length > MOST_WAITING) waiting.shift()
}

if (typeof window !== 'undefined') window.addEventListener('keydown', keep)

/** Hands over what was pressed while the page was loading, in order. */
function release(take: (event: KeyboardEvent) => void): void {
  if (waiting.length === 0 || isLoading()) return
  const now = Date.now()
  for (const { event, at } of waiting.splice(0)) if (now - at < WAITS_MS) take(event)
}

/** Single keys of a page; silent while somebody types or a sheet is open (`isOn` false), or one that is asked `isAlone`. Keys pressed while a page loads wait for it. */
export function useHotkeys(keys: Hotkeys, isOn = true, isAlone = false): void {
  const latest = useRef(keys)
  latest.current = keys
  const take = useRef((event: KeyboardEvent) => {
    const action = latest.current[keyOfEvent(event)]
    if (!action) return
    event.preventDefault()
    action(event)
  })
  useEffect(() => {
    if (!isOn) return
    const handle = (event: KeyboardEvent) => {
      if (alone !== null && alone !== take) return
      if (isPlain(event) && (event.key === 'Escape' || !isLoading())) take.current(event)
    }
    window.addEventListener('keydown', handle)
    return () => window.removeEventListener('keydown', handle)
  }, [isOn])
  useEffect(() => {
    if (!isAlone) return
    alone = take
    return () => { if (alone === take) alone = null }
  }, [isAlone])
  useEffect(() => {
    there += 1
    return () => { there -= 1 }
  }, [])
  useEffect(() => {
    if (isOn) release(take.current)
  })
}
