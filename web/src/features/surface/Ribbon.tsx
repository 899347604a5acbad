import type { Surface } from '../../api/surfaceQueries'
import { bytes } from '../../lib/format'
import { T } from '../../words'
import { paths, runs } from './shape'

const HEIGHT = 100
interface RibbonProps {
  surface: Surface
  /** MB/s of a ribbon of full thickness: the same for all that stand beside each other. */
  fastest: number
  label: string
  /** The span under the loupe. */
  loupe?: readonly [number, number] | null
  onPick?: (lba: number) => void
  tall?: boolean
}

/** The disk as one ribbon of ink, as thick as it is fast: a slow place is a waist, what cannot be read a tear, what was not read dotted. */
export function Ribbon({ surface, fastest, label, loupe, onPick, tall = false }: RibbonProps) {
  const { bins, first, end } = surface
  const n = bins.length
  const x = (lba: number) => ((lba - first) / (end - first)) * n
  const pick = (event: React.MouseEvent<SVGSVGElement>) => {
    const box = event.currentTarget.getBoundingClientRect()
    onPick?.(first + ((event.clientX - box.left) / box.width) * (end - first))
  }
  return (
    <svg
      viewBox={`0 0 ${n} ${HEIGHT}`} preserveAspectRatio="none" role="img" aria-label={label} data-ribbon
      className={`block w-full ${tall ? 'h-[150px]' : 'h-[168px]'} ${onPick ? 'cursor-pointer' : ''}`} onClick={onPick && pick}
    >
      {runs(bins, (b) => b.mb_s === null && b.bad === 0).map(([a, b]) => (
        <line key={a} x1={a} x2={b} y1={50} y2={50} className="stroke-line" strokeWidth={2} strokeDasharray="2 5" vectorEffect="non-scaling-stroke" />
      ))}
      {paths(bins, fastest).map((points, index) => <polygon key={index} points={points} className="fill-ink" />)}
      {runs(bins, (b) => b.bad > 0).map(([a, b]) => (
        <g key={a}>
          <line x1={a} x2={b} y1={50} y2={50} className="stroke-brick" strokeWidth={4} vectorEffect="non-scaling-stroke" />
          <line x1={(a + b) / 2} x2={(a + b) / 2} y1={44} y2={56} className="stroke-brick" strokeWidth={4} vectorEffect="non-scaling-stroke" />
        </g>
      ))}
      {loupe && (
        <rect x={x(loupe[0])} width={Math.max(x(loupe[1]) - x(loupe[0]), n / 200)} y={1} height={98} fill="none" className="stroke-indigo" strokeWidth={2} vectorEffect="non-scaling-stroke" />
      )}
    </svg>
  )
}

/** What lives where, under a ribbon: a rule with a tick at every partition's start, the names where there is room. */
export function Lives({ surface }: { surface: Surface }) {
  const { first, end, lives } = surface
  const share = (lba: number) => ((Math.min(Math.max(lba, first), end) - first) / (end - first)) * 100
  const shown = lives.filter((l) => l.last >= first && l.first < end)
  let reached = 0
  return (
    <div className="relative h-[34px] border-t border-line text-s text-soft" aria-label={T.livesThere}>
      {shown.map((l) => {
        const at = share(l.first)
        const fits = at >= reached && share(l.last) - at > 4
        if (fits) reached = at + 18
        return (
          <span key={l.first} className="absolute top-0 h-2 border-l border-line" style={{ left: `${at}%` }}>
            {fits && <span className="absolute left-1 top-1.5 max-w-[300px] truncate whitespace-nowrap">{l.name}</span>}
          </span>
        )
      })}
    </div>
  )
}

const MARKS = 5

/** Where on the disk, in its own unit, and how fast a ribbon of full thickness is. */
export function Axis({ surface, fastest }: { surface: Surface; fastest: number }) {
  const { first, end, sector } = surface
  return (
    <div className="flex justify-between text-s text-soft tabular-nums" aria-label={T.axisOf(Math.round(fastest))}>
      {Array.from({ length: MARKS }, (_, index) => <span key={index}>{bytes((first + ((end - first) * index) / (MARKS - 1)) * sector)}{index === 0 && ` · ${T.axisOf(Math.round(fastest))}`}</span>)}
    </div>
  )
}

/** What the ink means. */
export function Legend() {
  return (
    <span className="flex flex-wrap gap-x-5 text-s" aria-label={T.legend}>
      <span><span aria-hidden className="mr-1.5 inline-block h-2.5 w-4 bg-ink" />{T.legendSpeed}</span>
      <span><span aria-hidden className="mr-1.5 inline-block h-[3px] w-4 bg-brick align-middle" />{T.legendBad}</span>
      <span><span aria-hidden className="mr-1.5 inline-block w-4 border-t-2 border-dashed border-line align-middle" />{T.legendUnread}</span>
    </span>
  )
}
