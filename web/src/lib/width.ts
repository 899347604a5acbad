import { useLayoutEffect, useState, type RefObject } from 'react'

/** The width of an element in CSS pixels, kept up to date; `initial` until it is measured. */
export function useWidth(ref: RefObject<HTMLElement | null>, initial: number): number {
  const [width, setWidth] = useState(initial)
  useLayoutEffect(() => {
    const element = ref.current
    if (!element) return
    const measure = () => setWidth((now) => (element.clientWidth > 0 ? element.clientWidth : now))
    measure()
    const observer = new ResizeObserver(measure)
    observer.observe(element)
    return () => observer.disconnect()
  }, [ref])
  return width
}
