import type { Recording } from '../../api/earQueries'
import { T } from '../../words'

const WIDE = 1000
const MOST_ROWS = 48
/** Where no beat was found time is folded by the second. */
const BY_THE_SECOND = 1

/** A single sound as a sign of its kind: a stroke for a tick, a block for a clunk, an open block for a thud, a dot for a seek. */
function Sign({ kind, x, y, row, isChosen }: { kind: string; x: number; y: number; row: number; isChosen: boolean }) {
  const fill = isChosen ? 'fill-indigo' : 'fill-ink'
  const stroke = isChosen ? 'stroke-indigo' : 'stroke-ink'
  const high = Math.max(row - 3, 4)
  if (kind === 'clunk') return <rect x={x - 9} y={y - high / 2} width={18} height={high} className={fill} />
  if (kind === 'thud') return <rect x={x - 8} y={y - high / 2 + 1} width={16} height={high - 2} fill="none" strokeWidth={2} className={stroke} />
  if (kind === 'seek') return <circle cx={x} cy={y} r={Math.min(high / 2, 4)} className={fill} />
  return <rect x={x - 2.5} y={y - high / 2} width={5} height={high} className={fill} />
}

/** Time folded by the beat that was found: what keeps the beat stands in a line from row to row, what does not scatters. */
export function Folded({ recording, at, onPick }: { recording: Recording; at: number; onPick: (index: number) => void }) {
  const fold = recording.period ?? BY_THE_SECOND
  const rows = Math.max(1, Math.ceil(recording.seconds / fold))
  const skipped = Math.max(1, Math.ceil(rows / MOST_ROWS))
  const row = Math.max(7, Math.min(22, 260 / Math.ceil(rows / skipped)))
  const high = Math.ceil(rows / skipped) * row
  const first = recording.events[0]?.at ?? 0
  const placed = recording.events.map((event, index) => {
    const since = event.at - first + fold / 2 + 1e-6 // the first one stands in the middle, so that a beat that drifts stays in the picture
    const beat = Math.floor(since / fold)
    return { ...event, index, x: ((since - beat * fold) / fold) * WIDE, y: (beat / skipped) * row + row / 2 }
  })
  const pick = (event: React.MouseEvent<SVGSVGElement>) => {
    const box = event.currentTarget.getBoundingClientRect()
    const x = ((event.clientX - box.left) / box.width) * WIDE
    const y = ((event.clientY - box.top) / box.height) * high
    const nearest = placed.reduce<{ index: number; far: number } | null>((best, own) => {
      const far = Math.hypot((own.x - x) / 3, own.y - y)
      return best === null || far < best.far ? { index: own.index, far } : best
    }, null)
    if (nearest) onPick(nearest.index)
  }
  return (
    <figure data-folded={recording.period === null ? 'second' : 'beat'}>
      <svg viewBox={`0 0 ${WIDE} ${high}`} preserveAspectRatio="none" className="block w-full cursor-pointer border-y border-line bg-sheet" style={{ height: Math.max(60, Math.min(280, high)) }} role="img" aria-label={T.earPicture(recording.events.length, recording.period)} onClick={pick}>
        {Array.from({ length: Math.ceil(rows / skipped) }, (_, n) => <line key={n} x1={0} x2={WIDE} y1={n * row + row / 2} y2={n * row + row / 2} className="stroke-hair" vectorEffect="non-scaling-stroke" />)}
        {placed.map((own) => <Sign key={own.index} kind={own.kind} x={own.x} y={own.y} row={row} isChosen={own.index === at} />)}
      </svg>
      <figcaption className="flex flex-wrap justify-between gap-x-4 text-s text-soft">
        <span>{recording.period === null ? T.earBySecond : T.earByBeat(recording.period.toFixed(2))}</span>
        <span>{T.earSigns}</span>
      </figcaption>
    </figure>
  )
}

/** The detail beneath: how loud it was, through its seconds, with the chosen sound marked. */
export function Loud({ recording, at }: { recording: Recording; at: number }) {
  const values = recording.shape['loud'] ?? []
  const own = recording.events[at]
  return (
    <svg viewBox={`0 0 ${values.length} 40`} preserveAspectRatio="none" className="mt-2 block h-10 w-full" aria-hidden="true">
      <path d={values.map((v, i) => `M${i + 0.5} ${20 - v * 19}V${20 + v * 19}`).join('')} className="stroke-soft" strokeWidth={1} vectorEffect="non-scaling-stroke" />
      {own && <line x1={(own.at / recording.seconds) * values.length} x2={(own.at / recording.seconds) * values.length} y1={0} y2={40} className="stroke-indigo" strokeWidth={3} vectorEffect="non-scaling-stroke" />}
    </svg>
  )
}
