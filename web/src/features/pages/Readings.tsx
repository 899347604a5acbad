import type { Drive } from '../../api/client'
import { bytes } from '../../lib/format'
import { T } from '../../words'

interface Reading {
  id?: number
  name: string
  value: number | null
  unit: string
  raw?: number
  now?: number
  worst?: number
  threshold?: number | null
  below_now?: boolean
  below_ever?: boolean
  page: string
  at?: number
  lowest?: number | null
  highest?: number | null
}

function shown(reading: Reading): string {
  if (reading.value === null) return T.makersOwn
  if (reading.unit === 'B') return bytes(reading.value)
  if (reading.unit === 'degC') return `${reading.value} °C${reading.lowest != null && reading.highest != null ? ` (${reading.lowest} to ${reading.highest})` : ''}`
  return `${reading.value.toLocaleString('en')}${reading.unit ? ` ${reading.unit}` : ''}`
}

/** Now, worst ever and threshold of the maker's own scale on one small bar. */
function Scale({ reading, isBad }: { reading: Reading; isBad: boolean }) {
  if (reading.now === undefined || (isBad && !reading.below_now)) return <span /> // a full bar beside what is failing would say that all is well
  const share = (v: number) => `${Math.min(100, (v / Math.max(100, reading.now ?? 100)) * 100)}%`
  const tone = reading.below_now ? 'bg-brick' : reading.below_ever ? 'bg-ochre' : 'bg-pine'
  return (
    <span className="relative block h-3" role="img" aria-label={T.scaleSays(reading.now, reading.worst ?? reading.now, reading.threshold ?? T.none)}>
      <span className="absolute inset-x-0 top-1 h-1 rounded-full bg-hair" />
      <span className={`absolute left-0 top-1 h-1 rounded-full ${tone}`} style={{ width: share(reading.now) }} />
      <span className="absolute top-0.5 h-2 w-0.5 bg-ink" style={{ left: share(reading.worst ?? 0) }} />
      {Boolean(reading.threshold) && <span className="absolute top-0 h-3 w-0.5 bg-brick" style={{ left: share(reading.threshold ?? 0) }} />}
    </span>
  )
}

const ROW: Record<string, string> = { failing: 'border-l-4 border-l-brick bg-sheet', sign: 'border-l-4 border-l-ochre bg-sheet' }

/** Every reading of the drive, those that speak against it first: what it counts, and where it stands on the maker's scale. */
export function Readings({ drive, onBytes }: { drive: Drive; onBytes: (page: string, at: number) => void }) {
  const readings = drive.readings as unknown as Reading[]
  if (readings.length === 0) return null
  const hasScale = readings.some((r) => r.now !== undefined)
  const marks = new Map(drive.findings.filter((f) => f.at != null).map((f) => [`${f.page}@${f.at}`, f.severity]))
  const severity = (r: Reading): string => (r.below_now ? 'failing' : marks.get(`${r.page}@${r.at}`) ?? (r.below_ever ? 'sign' : ''))
  const rank = (r: Reading): number => ({ failing: 0, sign: 1 })[severity(r)] ?? 2
  const sorted = [...readings].sort((a, b) => rank(a) - rank(b))
  return (
    <>
      <h2 className="mb-1 text-s font-bold text-soft">{T.readings}</h2>
      <table className="w-full text-m">
        <thead className="text-s text-soft">
          <tr>{hasScale && <th className="w-10 text-left font-normal">{T.readingNumber}</th>}<th className="text-left font-normal">{T.readingWhat}</th><th className="text-right font-normal">{T.readingReads}</th>{hasScale && <th className="w-32 pl-4 text-left font-normal">{T.readingScale}</th>}</tr>
        </thead>
        <tbody>
          {sorted.map((reading) => (
            <tr key={`${reading.id ?? reading.name}`} data-severity={severity(reading)} className={`border-b border-hair ${ROW[severity(reading)] ?? ''}`}>
              {hasScale && <td className="font-mono text-s text-soft">{reading.id ?? ''}</td>}
              <td className="py-1">
                {reading.at === undefined ? reading.name : <button type="button" onClick={() => onBytes(reading.page, reading.at ?? 0)} className="min-h-6 underline decoration-hair underline-offset-4">{reading.name}</button>}
              </td>
              <td className={`text-right ${reading.value === null ? 'text-s text-soft' : ROW[severity(reading)] ? 'text-xl font-bold' : ''}`}>{shown(reading)}</td>
              {hasScale && <td className="pl-4"><Scale reading={reading} isBad={severity(reading) !== ''} /></td>}
            </tr>
          ))}
        </tbody>
      </table>
    </>
  )
}
