import type { SystemEvent } from '../../api/volumeQueries'
import { T } from '../../words'
import { marks, named, ROWS, runs, seen, ticks, time } from './timeline'

const WIDE = 1000
const LINE = 34
const TOP = 6
const STROKE: Record<string, string> = { power: 'stroke-brick', updates: 'stroke-ink', disk: 'stroke-brick', crashes: 'stroke-brick', other: 'stroke-line' }

/** The system's diary: runs as a band, everything else as strokes in the row of its kind; higher where there were more of it. */
export function TimeLine({ events, span, inHand, onHand }: { events: readonly SystemEvent[]; span: number; inHand: SystemEvent | null; onHand: (event: SystemEvent) => void }) {
  const last = events.at(-1)
  if (!last) return null
  const own = seen(events, span, time(inHand ?? last))
  const x = (at: number) => ((at - own.from) / (own.to - own.from)) * WIDE
  const rows = ROWS.filter((row) => events.some((e) => e.row === row))
  const shown = marks(events).filter((e) => time(e) >= own.from && time(e) <= own.to)
  const high = TOP + rows.length * LINE + 18
  return (
    <figure className="mt-3" aria-label={T.recordsLine}>
      <div className="grid grid-cols-[92px_minmax(0,1fr)] gap-x-2 sm:grid-cols-[132px_minmax(0,1fr)]">
        <ul className="pt-1.5 text-s">{rows.map((row) => <li key={row} style={{ height: LINE }} className="flex items-center text-soft">{T.recordsRows[row]}</li>)}</ul>
        <svg viewBox={`0 0 ${WIDE} ${high}`} preserveAspectRatio="none" className="block w-full" style={{ height: high }} role="img" aria-label={T.recordsSeen(shown.length)} data-timeline>
          {ticks(own).map((at) => <line key={at} x1={x(at)} x2={x(at)} y1={0} y2={high - 14} className="stroke-hair" vectorEffect="non-scaling-stroke" />)}
          {rows.includes('runs') && runs(events).filter((r) => r.to >= own.from && r.from <= own.to).map((r) => (
            <g key={r.from}>
              <rect x={x(r.from)} width={Math.max(1.5, x(r.to) - x(r.from))} y={TOP + LINE * rows.indexOf('runs') + 9} height={LINE - 18} className="fill-line" />
              {!r.isShutDown && <line x1={x(r.to)} x2={x(r.to)} y1={TOP + LINE * rows.indexOf('runs') + 3} y2={TOP + LINE * rows.indexOf('runs') + LINE - 3} className="stroke-brick" strokeWidth={2} vectorEffect="non-scaling-stroke" data-run="cut" />}
            </g>
          ))}
          {shown.map((e, n) => {
            const base = TOP + LINE * (rows.indexOf(e.row as (typeof rows)[number]) + 1) - 4
            const isInHand = e === inHand
            return <line key={n} x1={x(time(e))} x2={x(time(e))} y1={base} y2={base - Math.min(LINE - 8, 10 + 5 * Math.log2(e.count))} className={STROKE[e.row] ?? 'stroke-line'} strokeWidth={isInHand ? 5 : 2.5} vectorEffect="non-scaling-stroke" data-event={e.kind} />
          })}
          {shown.map((e, n) => <rect key={n} x={x(time(e)) - 6} width={12} y={TOP + LINE * rows.indexOf(e.row as (typeof rows)[number])} height={LINE} className="cursor-pointer fill-transparent" onClick={() => onHand(e)} />)}
        </svg>
      </div>
      <div className="relative ml-[100px] h-5 text-s text-soft sm:ml-[140px]">
        {ticks(own).map((at, index) => <span key={at} className={`absolute -translate-x-1/2 whitespace-nowrap ${index % 2 ? 'max-md:hidden' : ''}`} style={{ left: `${x(at) / (WIDE / 100)}%` }}>{named(at, own)}</span>)}
      </div>
    </figure>
  )
}
