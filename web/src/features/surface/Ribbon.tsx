import type { RibbonBin, Surface } from '../../api/surfaceQueries'
import { T } from '../../words'

const HEIGHT = 100
const FULL = 40
const READ = 0.5
const SLOW = 0.35

/** How thick the ribbon is here, 0 to 1: as thick as the drive is fast; one slow block among many is a waist all the same. */
function thickness(bin: RibbonBin, fastest: number): number {
  if (bin.mb_s === null) return 0
  const shown = bin.slowest !== null && bin.slowest < SLOW * bin.mb_s ? Math.sqrt(bin.mb_s * Math.max(bin.slowest, 0.5)) : bin.mb_s
  return Math.max(0.06, Math.min(1, shown / fastest))
}

/** Runs of bins that the ribbon covers, as closed paths. */
function paths(bins: readonly RibbonBin[], fastest: number): string[] {
  const found: string[] = []
  let at = 0
  while (at < bins.length) {
    if (bins[at]!.read < READ && bins[at]!.mb_s === null) { at += 1; continue }
    const start = at
    while (at < bins.length && bins[at]!.mb_s !== null && bins[at]!.bad === 0) at += 1
    if (at === start) { at += 1; continue }
    const run = bins.slice(start, at).map((bin, index) => [start + index, thickness(bin, fastest) * FULL] as const)
    const top = run.map(([x, half]) => `${x},${50 - half} ${x + 1},${50 - half}`).join(' ')
    const bottom = [...run].reverse().map(([x, half]) => `${x + 1},${50 + half} ${x},${50 + half}`).join(' ')
    found.push(`${top} ${bottom}`)
  }
  return found
}

/** Runs of bins for which something holds, as [first, end). */
function runs(bins: readonly RibbonBin[], holds: (bin: RibbonBin) => boolean): [number, number][] {
  const found: [number, number][] = []
  bins.forEach((bin, index) => {
    if (!holds(bin)) return
    const last = found.at(-1)
    if (last && last[1] === index) last[1] = index + 1
    else found.push([index, index + 1])
  })
  return found
}

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
      className={`block w-full ${tall ? 'h-[92px]' : 'h-[84px]'} ${onPick ? 'cursor-pointer' : ''}`} onClick={onPick && pick}
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
