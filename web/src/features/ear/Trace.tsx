import type { Recording } from '../../api/earQueries'
import { T } from '../../words'

const HIGH = 120

/** A supply trace: the current of each rail through its seconds, with what each part is. */
export function Trace({ recording }: { recording: Recording }) {
  const rails = Object.entries(recording.shape).filter(([name]) => name.startsWith('a'))
  const most = Math.max(0.05, ...rails.flatMap(([, values]) => values))
  const wide = rails[0]?.[1].length ?? 1
  let reached = -1
  return (
    <figure data-trace>
      <div className="relative">
        <svg viewBox={`0 0 ${wide} ${HIGH}`} preserveAspectRatio="none" className="block h-32 w-full border-y border-line bg-sheet" role="img" aria-label={T.earTrace(recording.seconds.toFixed(1), most.toFixed(2))}>
          {rails.map(([name, values], index) => (
            <polyline key={name} points={values.map((v, i) => `${i},${HIGH - 6 - (Math.max(v, 0) / most) * (HIGH - 18)}`).join(' ')} fill="none" className="stroke-ink" strokeWidth={index ? 1.5 : 2.5} strokeDasharray={index ? '6 3' : undefined} vectorEffect="non-scaling-stroke" />
          ))}
          {recording.events.map((event, index) => <line key={index} x1={(event.at / recording.seconds) * wide} x2={(event.at / recording.seconds) * wide} y1={HIGH - 6} y2={HIGH} className="stroke-indigo" strokeWidth={2} vectorEffect="non-scaling-stroke" />)}
        </svg>
        {recording.events.filter((e) => e.kind !== 'seek').map((event, index) => {
          const share = event.at / recording.seconds
          const fits = share > reached
          if (fits) reached = share + 0.1
          return fits && <span key={index} className="absolute top-0.5 text-s text-soft" style={{ left: `${Math.min(share * 100, 88)}%` }}>{T.earParts[event.kind] ?? event.kind}</span>
        })}
      </div>
      <figcaption className="flex flex-wrap justify-between gap-x-4 text-s text-soft">
        <span>{rails.map(([name], index) => T.earRail(name.slice(1), index > 0)).join(', ')}</span>
        <span>{[recording.form_factor && T.earForm(recording.form_factor), T.earMost(most.toFixed(2)), `${recording.seconds.toFixed(1)} s`].filter(Boolean).join(' · ')}</span>
      </figcaption>
    </figure>
  )
}
