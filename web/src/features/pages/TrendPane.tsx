import type { Capture, Drive, Trend } from '../../api/client'
import { bytes, clock } from '../../lib/format'
import { T } from '../../words'

const TONE: Record<string, string> = { failing: 'border-brick', sign: 'border-ochre', note: 'border-line' }

/** What grew since the earlier captures of this very drive, and how fast. */
export function TrendPane({ drive, trend }: { drive: Drive; trend: Trend }) {
  const grown = trend.lines.filter((line) => line.grown !== 0)
  return (
    <section aria-label={T.trendTitle(trend.captures)} className="mt-4">
      <h2 className="mb-1 text-s font-bold text-soft">{T.trendTitle(trend.captures)}</h2>
      {trend.findings.map((f) => (
        <div key={f.text} className={`mb-1.5 border-l-4 ${TONE[f.severity]} bg-sheet px-3 py-1.5`}>
          <div className="text-m font-semibold">{f.text}</div><div className="text-s text-soft">{f.means}</div>
        </div>
      ))}
      {trend.new.map((id) => {
        const finding = drive.findings.find((f) => f.id === id)
        return finding && <p key={id} className="border-l-4 border-brick px-3 text-m"><strong>{T.trendNew}</strong>: {finding.text}</p>
      })}
      {grown.length === 0 && trend.findings.length === 0 && <p className="text-m text-soft">{T.trendSame}</p>}
      <ul className="text-s">
        {grown.map((line) => (
          <li key={line.name} className="flex justify-between border-b border-hair py-1">
            <span>{line.name}</span>
            <span className="text-soft">
              {line.grown > 0 ? '+' : '−'}{line.unit === 'B' ? bytes(Math.abs(line.grown)) : Math.abs(line.grown).toLocaleString('en')}{line.unit !== 'B' && line.unit && ` ${line.unit}`}
              {line.per_1000_hours !== null && line.unit !== 'B' && ` · ${T.per1000(line.per_1000_hours.toFixed(line.per_1000_hours < 10 ? 1 : 0))}`}
            </span>
          </li>
        ))}
      </ul>
    </section>
  )
}

interface Value { name: string; value: number | null; unit: string }

const shown = (v: Value | undefined): string => (!v || v.value === null ? '·' : v.unit === 'B' ? bytes(v.value) : v.unit === 'degC' ? `${v.value} °C` : v.value.toLocaleString('en'))

/** All captures of one drive beside each other, oldest first; what differs stands out. */
export function SideBySide({ captures, drive }: { captures: readonly Capture[]; drive: Drive }) {
  const serial = drive.identity?.['serial']
  const own = captures.flatMap((c) => c.devices.filter((d) => serial && d.identity?.['serial'] === serial).map((d) => ({ capture: c, drive: d }))).reverse().slice(-5)
  const names = [...new Set(own.flatMap((o) => (o.drive.readings as unknown as Value[]).map((r) => r.name)))]
  const value = (d: Drive, name: string) => (d.readings as unknown as Value[]).find((r) => r.name === name)
  return (
    <section>
      <h2 className="mb-2 text-l font-semibold"><span className="font-mono">{String(serial)}</span></h2>
      <div className="overflow-x-auto" tabIndex={0} role="region" aria-label={T.sideBySide}><table className="w-full text-m">
        <thead className="text-s text-soft">
          <tr>
            <td />
            {own.map((o) => <th key={o.capture.sha256} className="px-2 text-right font-normal">{clock(o.capture.added_at)}<span className="block font-mono">{o.capture.name}</span></th>)}
          </tr>
        </thead>
        <tbody>
          <tr className="border-b border-line"><td className="py-1 text-soft">{T.verdict}</td>{own.map((o) => <td key={o.capture.sha256} className="px-2 py-1 text-right text-s">{o.drive.verdict}</td>)}</tr>
          {names.map((name) => {
            const cells = own.map((o) => shown(value(o.drive, name)))
            const differs = new Set(cells).size > 1
            return (
              <tr key={name} className="border-b border-hair">
                <td className={`py-1 ${differs ? 'font-semibold' : ''}`}>{name}</td>
                {cells.map((text, index) => (
                  <td key={index} className={`px-2 py-1 text-right ${index > 0 && text !== cells[index - 1] ? 'font-bold' : 'text-soft'}`}>{text}</td>
                ))}
              </tr>
            )
          })}
        </tbody>
      </table></div>
    </section>
  )
}
