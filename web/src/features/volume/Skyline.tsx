import type { VolumeLook } from '../../api/volumeQueries'
import { bytes } from '../../lib/format'
import { T } from '../../words'

const WIDE = 960
const HIGH = 46
const BELOW = 20

/** The volume as a horizon: how full each stretch is stands above the line; what a repair touches hangs below it, what is in hand longer. */
export function Skyline({ look, inHand }: { look: VolumeLook; inHand: readonly number[] }) {
  const cells = look.fill.length
  if (cells === 0) return null
  const step = WIDE / cells
  const touched = [...new Set(look.groups.flatMap((g) => g.places))]
  const tops = look.fill.map((f) => HIGH - (f === 0 ? 0 : Math.max(1.5, f * (HIGH - 4))))
  const line = tops.map((y, n) => `${n === 0 ? 'M' : 'L'}${(n * step).toFixed(1)} ${y.toFixed(1)}H${((n + 1) * step).toFixed(1)}`).join('')
  return (
    <svg viewBox={`0 0 ${WIDE} ${HIGH + BELOW}`} preserveAspectRatio="none" className="mt-3 block h-16 w-full" role="img" aria-label={T.volumePlan(bytes(look.size), touched.length)} data-skyline>
      <path d={`${line}V${HIGH}H0Z`} className="fill-line" />
      <path d={line} className="fill-none stroke-ink" strokeWidth={1.5} vectorEffect="non-scaling-stroke" />
      <line x1={0} x2={WIDE} y1={HIGH} y2={HIGH} className="stroke-ink" strokeWidth={1} vectorEffect="non-scaling-stroke" />
      {touched.map((cell) => {
        const x = (cell + 0.5) * step
        const isInHand = inHand.includes(cell)
        return <line key={cell} x1={x} x2={x} y1={HIGH} y2={HIGH + (isInHand ? BELOW : 9)} className={isInHand ? 'stroke-brick' : 'stroke-ochre'} strokeWidth={isInHand ? 4 : 3} vectorEffect="non-scaling-stroke" data-place={isInHand ? 'in hand' : 'touched'} />
      })}
    </svg>
  )
}
