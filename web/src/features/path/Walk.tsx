import type { Path, PathSpan } from '../../api/pathQueries'
import { bytes } from '../../lib/format'
import { GateMark } from '../../ui/GateMark'
import { T } from '../../words'
import { CELLS, HEAD_END, onWhole, place, stretch, TAIL_START, WHOLE } from './bands'

const WIDE = 1000
const ROW = 34

/** The disk as a ruler: its first and last sectors one by one under loupes, the whole of it to scale between them. */
function Ruler({ path }: { path: Path }) {
  const cell = (HEAD_END * WIDE) / CELLS
  const tables = (lba: number) => path.tables.find((t) => t.first <= lba && lba <= t.last)
  const cells = (from: number, at: number) => Array.from({ length: CELLS }, (_, i) => {
    const lba = from + i
    return lba >= 0 && lba < path.sectors ? <rect key={lba} x={at + i * cell + 0.5} y={14} width={cell - 1} height={tables(lba) ? 20 : 8} className={tables(lba) ? 'fill-ink' : 'fill-line'} /> : null
  })
  return (
    <svg viewBox={`0 0 ${WIDE} 40`} preserveAspectRatio="none" className="block h-10 w-full" role="img" aria-label={T.pathRuler(bytes(path.sectors * path.sector), path.pieces.length)} data-ruler>
      {cells(0, 0)}
      <line x1={WHOLE[0] * WIDE} x2={WHOLE[1] * WIDE} y1={18} y2={18} className="stroke-line" strokeWidth={2} vectorEffect="non-scaling-stroke" />
      {path.pieces.map((p) => {
        const from = onWhole(path, p.first) * WIDE
        const to = Math.max(onWhole(path, p.last + 1) * WIDE, from + 2)
        return (
          <g key={`${p.number}-${p.first}`} className="stroke-ink" strokeWidth={1.5} fill="none" vectorEffect="non-scaling-stroke">
            <path d={`M${from} 34V14H${to}V34`} vectorEffect="non-scaling-stroke" />
          </g>
        )
      })}
      {cells(path.sectors - CELLS, TAIL_START * WIDE)}
    </svg>
  )
}

interface RowProps { path: Path; reads: PathSpan[]; from: number | null; stop?: string | undefined }

/** One step of the walk over the ruler: what was read, and the thread from the step before. */
function Row({ path, reads, from, stop }: RowProps) {
  const last = reads.at(-1)
  const at = last ? place(path, last.first) : (from ?? 0)
  return (
    <svg viewBox={`0 0 ${WIDE} ${ROW}`} preserveAspectRatio="none" className="block h-full min-h-[34px] w-full" aria-hidden="true">
      {[HEAD_END, WHOLE[0], WHOLE[1], TAIL_START].map((x) => <line key={x} x1={x * WIDE} x2={x * WIDE} y1={0} y2={ROW} className="stroke-line" strokeWidth={1} strokeDasharray="1 5" vectorEffect="non-scaling-stroke" />)}
      {from !== null && <line x1={from * WIDE} x2={at * WIDE} y1={0} y2={ROW / 2} className="stroke-ink" strokeWidth={1.5} vectorEffect="non-scaling-stroke" />}
      {!stop && <line x1={at * WIDE} x2={at * WIDE} y1={ROW / 2} y2={ROW} className="stroke-ink" strokeWidth={1.5} vectorEffect="non-scaling-stroke" />}
      {reads.map((span) => {
        const [a, b] = stretch(path, span)
        return <line key={span.first} x1={a * WIDE - 3} x2={b * WIDE + 3} y1={ROW / 2} y2={ROW / 2} className={stop ? 'stroke-brick' : 'stroke-ink'} strokeWidth={6} vectorEffect="non-scaling-stroke" />
      })}
    </svg>
  )
}

/** Where the thread stands after each step. */
function threads(path: Path): (number | null)[] {
  const out: (number | null)[] = [null]
  for (const step of path.steps) {
    const last = step.reads.at(-1)
    out.push(last ? place(path, last.first) : (out.at(-1) ?? null))
  }
  return out
}

const GRID = 'grid grid-cols-[minmax(0,5fr)_minmax(0,6fr)] sm:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]'

/** The firmware's walk, step by step down the page, over the ruler that stands above it. */
export function Walk({ path, isOpen, onStop }: { path: Path; isOpen: boolean; onStop: () => void }) {
  const from = threads(path)
  const stop = path.stop
  return (
    <section aria-label={T.pathWalk} data-walk>
      <div className={`${GRID} items-end gap-x-3 text-s text-soft`}>
        <span />
        <div className="grid grid-cols-[27fr_46fr_27fr] max-sm:hidden">
          <span>{T.pathFirst(CELLS)}</span><span className="text-center">{bytes(path.sectors * path.sector)}</span><span className="text-right">{T.pathLast(CELLS)}</span>
        </div>
      </div>
      <div className={`${GRID} gap-x-3`}>
        <Parts path={path} />
        <Ruler path={path} />
      </div>
      <ol>
        {path.steps.map((step, index) => (
          <li key={index} className={`${GRID} items-stretch gap-x-3`}>
            <span className="self-center py-1 text-m"><span className="mr-2 inline-block w-5 text-right font-mono text-s text-soft">{index + 1}</span>{step.text}</span>
            <Row path={path} reads={step.reads} from={from[index] ?? null} />
          </li>
        ))}
        {stop && (
          <li className={`${GRID} items-stretch gap-x-3`} data-stop={stop.gate}>
            <button type="button" onClick={onStop} aria-expanded={isOpen} className="touch flex min-h-9 items-center gap-2 py-1 text-left text-m font-bold">
              <svg width="24" height="26" viewBox="0 0 24 26" aria-hidden="true" className="shrink-0"><GateMark state="shut" x={12} y={14} half={8} post={8} /></svg>
              {stop.text}
            </button>
            <Row path={path} reads={stop.lba === null ? path.last_reads : [{ first: stop.lba, last: stop.lba }]} from={from.at(-1) ?? null} stop={stop.gate} />
          </li>
        )}
        {path.boots && (
          <li className={`${GRID} items-stretch gap-x-3`}>
            <span className="flex items-center gap-2 py-1 text-m font-bold">
              <svg width="24" height="26" viewBox="0 0 24 30" aria-hidden="true" className="shrink-0"><GateMark state="open" x={12} y={20} half={8} post={7} /></svg>
              {T.pathStarts}
            </span>
            <Row path={path} reads={path.last_reads} from={from.at(-1) ?? null} />
          </li>
        )}
      </ol>
    </section>
  )
}

/** The partitions by number and name, beside the ruler. */
function Parts({ path }: { path: Path }) {
  return (
    <ul className="self-center text-s text-soft">
      {path.pieces.slice(0, 6).map((p) => (
        <li key={`${p.number}-${p.first}`} className="truncate"><span className="font-mono">{p.number}</span> {[p.holds, p.name && `“${p.name}”`, bytes((p.last - p.first + 1) * path.sector)].filter(Boolean).join(', ')}{p.systems.length > 0 && <strong className="text-ink"> · {p.systems.join(', ')}</strong>}</li>
      ))}
      {path.pieces.length > 6 && <li>{T.andMore(path.pieces.length - 6)}</li>}
      {path.pieces.length === 0 && path.boots !== null && <li>{T.pathNoPieces}</li>}
    </ul>
  )
}
