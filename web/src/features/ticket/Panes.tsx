import { useRef, useState, type ReactNode } from 'react'

export interface Pane {
  id: string
  label: string
  node: ReactNode
  /** Where the pane stands beside the others, and how wide. */
  className: string
}

/**
 * Panes of a page. On a phone one at a time, a swipe or a tap apart; on a tablet held upright the first over the others; else side by
 * side. The first is what the hands need.
 */
export function Panes({ panes, label }: { panes: readonly Pane[]; label: string }) {
  const box = useRef<HTMLDivElement>(null)
  const [at, setAt] = useState(0)
  const show = (index: number) => box.current?.scrollTo({ left: index * box.current.clientWidth, behavior: 'smooth' })
  const handleScroll = () => {
    const own = box.current
    if (own && own.clientWidth > 0) setAt(Math.round(own.scrollLeft / own.clientWidth))
  }
  return (
    <>
      <nav aria-label={label} className="flex border-b border-hair bg-mat md:hidden">
        {panes.map((pane, index) => (
          <button
            key={pane.id} type="button" aria-current={index === at || undefined} onClick={() => show(index)}
            className={`min-h-11 flex-1 border-b-[3px] text-center text-m ${index === at ? 'border-ink font-bold' : 'border-transparent text-soft'}`}
          >
            {pane.label}
          </button>
        ))}
      </nav>
      <div
        ref={box} onScroll={handleScroll}
        className="flex min-h-0 flex-1 snap-x snap-mandatory overflow-x-auto overflow-y-hidden md:grid md:snap-none md:grid-cols-2 md:content-start md:overflow-x-hidden md:overflow-y-auto lg:grid-cols-[212px_minmax(0,1fr)_250px] lg:content-stretch lg:overflow-hidden xl:grid-cols-[268px_minmax(0,1fr)_320px]"
      >
        {panes.map((pane) => (
          <div key={pane.id} data-pane={pane.id} className={`w-full shrink-0 snap-start overflow-y-auto md:w-auto md:overflow-visible lg:min-h-0 lg:overflow-y-auto ${pane.className}`}>{pane.node}</div>
        ))}
      </div>
    </>
  )
}
