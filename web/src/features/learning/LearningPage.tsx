import { useState } from 'react'
import { useLocation } from 'wouter'

import type { Bin, Learning } from '../../api/client'
import { useLearning, useResetLearning } from '../../api/queries'
import { useWords } from '../../api/words'
import { clock, day, percent } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { T } from '../../words'

const SIZE = 220

/** Predicted against observed: on the diagonal the odds are honest. A dot's area is how many it stands for. */
function Held({ title, bins }: { title: string; bins: readonly Bin[] }) {
  const most = Math.max(...bins.map((b) => b.count), 1)
  return (
    <figure className="min-w-0">
      <figcaption className="mb-2 text-m font-semibold">{title}</figcaption>
      <svg viewBox={`-34 -8 ${SIZE + 52} ${SIZE + 44}`} className="w-full max-w-[330px]" role="img" aria-label={bins.map((b) => `${T.predicted} ${percent(b.predicted)}, ${T.observed} ${percent(b.observed)}, ${b.count}`).join('; ')}>
        <path d={`M0 0V${SIZE}H${SIZE}`} className="fill-none stroke-line" />
        <path d={`M0 ${SIZE}L${SIZE} 0`} className="stroke-line" strokeDasharray="3 4" />
        {[0, 50, 100].map((v) => (
          <g key={v} className="fill-soft text-[11px]">
            <text x={-6} y={SIZE - (v / 100) * SIZE + 4} textAnchor="end">{v}</text>
            <text x={(v / 100) * SIZE} y={SIZE + 16} textAnchor="middle">{v} %</text>
          </g>
        ))}
        <text x={SIZE / 2} y={SIZE + 32} textAnchor="middle" className="fill-soft text-[11px]">{T.predicted}</text>
        <text transform={`rotate(-90) translate(${-SIZE / 2} -24)`} textAnchor="middle" className="fill-soft text-[11px]">{T.observed}</text>
        {bins.map((b) => (
          <g key={b.low}>
            <circle cx={b.predicted * SIZE} cy={SIZE - b.observed * SIZE} r={4 + 10 * Math.sqrt(b.count / most)} className="fill-ochre/50 stroke-ink" />
            <text x={b.predicted * SIZE} y={SIZE - b.observed * SIZE + 4} textAnchor="middle" className="fill-ink text-[10px]">{b.count}</text>
          </g>
        ))}
      </svg>
    </figure>
  )
}

function Rates({ learning }: { learning: Learning }) {
  const { fault } = useWords()
  const rows = learning.rates.filter((r) => r.counted > 0 || r.blended >= 0.02).slice(0, 16)
  const most = Math.max(...rows.flatMap((r) => [r.shipped, r.counted, r.blended]), 0.01)
  return (
    <table className="w-full text-m">
      <caption className="mb-2 text-left font-semibold">{T.rates}</caption>
      <thead><tr className="text-left text-s text-soft"><td /><th className="w-20 text-right font-normal">{T.shipped}</th><th className="w-24 text-right font-normal">{T.counted}</th><th className="w-20 text-right font-normal">{T.blended}</th><td className="w-24 sm:w-40" /></tr></thead>
      <tbody>
        {rows.map((r) => (
          <tr key={r.fault} className="border-b border-hair">
            <td className="py-1.5">{fault(r.fault)}</td>
            <td className="text-right text-soft">{percent(r.shipped)}</td>
            <td className="text-right text-soft">{percent(r.counted)}</td>
            <td className="text-right font-semibold">{percent(r.blended)}</td>
            <td className="pl-3">
              <span className="relative block h-2 rounded-full bg-hair">
                <span className="block h-full rounded-full bg-ochre" style={{ width: `${(r.blended / most) * 100}%` }} />
                <span className="absolute -top-1 h-4 w-0.5 bg-ink" style={{ left: `${(r.shipped / most) * 100}%` }} />
              </span>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}

/** What the shop's own closed tickets have taught, whether the odds held, and the way to forget it. */
export function LearningPage() {
  const { data, error } = useLearning()
  const reset = useResetLearning()
  const [, navigate] = useLocation()
  const [isSure, setSure] = useState(false)
  const forget = () => reset.mutate(undefined, { onSuccess: () => setSure(false) })
  const hasLearned = data !== undefined && (data.lessons > 0 || data.comebacks > 0)
  const on: Handlers<'odds'> = {
    bench: () => navigate('/'), back: () => (isSure ? setSure(false) : navigate('/')),
    ...(hasLearned && { reset: () => setSure(true) }), ...(isSure && { sure: forget }),
  }
  if (!data) return <div className="p-8">{error ? <Note title={T.away}>{error.message}</Note> : <p className="text-l text-soft">{T.loading}</p>}</div>
  return (
    <Commands page="odds" on={on}>
    <main className="h-full overflow-y-auto px-4 pb-8 pt-4 lg:px-7">
      <header className="mb-1 flex flex-wrap items-baseline gap-x-4">
        <h1 className="text-xl font-bold">{T.oddsTitle}</h1>
        <span className="ml-auto flex flex-wrap gap-x-4">
          <Do of="odds" id="reset" />
          <Do of="odds" id="bench" />
          <Do of="odds" id="help" />
        </span>
      </header>
      {data.last_reset && <p className="text-s text-soft">{T.resetAt(`${day(data.last_reset)} ${clock(data.last_reset)}`)}</p>}
      {isSure && <div className="my-3 max-w-[640px]"><Note title={T.resetSure} tone="ochre"><Do of="odds" id="sure" strong /></Note></div>}
      {data.lessons + data.comebacks === 0 ? (
        <div className="pt-20 text-center"><p className="text-xl font-semibold">{T.noLessons}</p><p className="mt-2 text-l text-soft">{T.noLessonsHint}</p></div>
      ) : (
        <>
          <p className="mb-5 max-w-[90ch] text-l">{T.lessonsRead(data.lessons, data.weight, data.comebacks)}</p>
          <div className="grid gap-8 lg:grid-cols-[minmax(0,1.1fr)_minmax(0,1.2fr)]">
            <div className="grid content-start gap-4 sm:grid-cols-2">
              <Held title={T.heldCalls} bins={data.calls} />
              <Held title={T.heldSuspects} bins={data.suspects} />
              {data.brier !== null && <p className="text-s sm:col-span-2 text-soft">{T.brier(data.brier.toFixed(3))}</p>}
            </div>
            <Rates learning={data} />
          </div>
        </>
      )}
    </main>
    </Commands>
  )
}
