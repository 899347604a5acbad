import type { Drive, DriveEvent } from '../../api/client'
import { livesAt, useLivesAt } from '../../api/volumeQueries'
import { lowerFirst } from '../../lib/format'
import { T } from '../../words'

const TONE: Record<string, string> = { failing: 'var(--brick)', sign: 'var(--ochre)', note: 'var(--line)' }
const WIDTH = 560

/** The drive's own log on its own running time: tests stand above the line, errors hang below it. */
export function TimeLine({ ticket, drive, onBytes }: { ticket: number; drive: Drive; onBytes: (page: string, at: number) => void }) {
  const events = drive.events ?? []
  const files = useLivesAt(ticket, drive.device, events.flatMap((e) => (e.lba === null ? [] : [e.lba])))
  if (events.length === 0) return null
  const more = (drive.events_in_all ?? 0) > events.length
  const now = drive.hours ?? Math.max(...events.map((e) => e.hours ?? 0))
  const placed = events.filter((e) => e.hours !== null && e.hours <= now)
  const first = Math.min(...placed.map((e) => e.hours ?? now), now)
  const start = Math.max(0, first - Math.max(10, (now - first) * 0.1))
  const x = (hours: number) => 8 + ((hours - start) / Math.max(1, now - start)) * (WIDTH - 16)
  return (
    <section aria-label={T.timeLine} className="mt-4">
      <h2 className="mb-1 text-s font-bold text-soft">{T.timeLine}</h2>
      <svg viewBox={`0 0 ${WIDTH} 62`} className="w-full" role="img" aria-label={T.eventsUpTo(placed.length, T.hoursNow(now))}>
        <line x1={8} x2={WIDTH - 8} y1={28} y2={28} stroke="var(--ink)" strokeWidth="2.5" />
        <line x1={WIDTH - 8} x2={WIDTH - 8} y1={20} y2={36} stroke="var(--ink)" strokeWidth="2.5" />
        {placed.map((e, index) => <Mark key={index} event={e} x={x(e.hours ?? 0)} />)}
        <text x={8} y={58} fontSize="13" fill="var(--soft)">{Math.round(start).toLocaleString('en')} h</text>
        <text x={WIDTH - 8} y={58} fontSize="13" textAnchor="end" fill="var(--soft)">{T.hoursNow(now)}</text>
      </svg>
      <ul className="text-s">
        {[...events].reverse().slice(0, 8).map((e, index) => (
          <li key={index} className="flex items-baseline gap-3 border-b border-hair py-1">
            <span className="w-20 shrink-0 text-soft">{e.ago !== null ? T.hoursAgo(e.ago) : e.hours !== null ? `${e.hours.toLocaleString('en')} h` : ''}</span>
            <span className={`min-w-0 flex-1 ${e.severity === 'failing' ? 'font-bold' : ''}`}>{e.text}{e.lba !== null && <span className="text-soft"> · {T.atLba(e.lba)}{files.has(e.lba) && `, ${lowerFirst(livesAt(files.get(e.lba), ''))}`}</span>}</span>
            <button type="button" onClick={() => onBytes(e.page, e.at)} className="-my-1 min-h-8 text-indigo">{T.showBytes}</button>
          </li>
        ))}
      </ul>
      {more && <p className="mt-1 text-s text-soft">{T.newestOf(events.length, drive.events_in_all ?? 0)}</p>}
    </section>
  )
}

function Mark({ event, x }: { event: DriveEvent; x: number }) {
  const colour = TONE[event.severity] ?? TONE['note']
  return event.kind === 'test' ? (
    <rect x={x - 4} y={10} width="8" height="14" fill={event.severity === 'failing' ? colour : 'none'} stroke={colour} strokeWidth="2" />
  ) : (
    <path d={`M${x} 31l5 11h-10z`} fill={colour} />
  )
}
