import { useState } from 'react'

import type { Link } from '../../api/client'
import { surfaceCsv, useCopies, useRemoveCopy, type Place, type Surface, type SurfaceRead } from '../../api/surfaceQueries'
import { livesAt, useLivesAt } from '../../api/volumeQueries'
import { bytes, clock } from '../../lib/format'
import { Commands, Do } from '../../ui/Commands'
import { T } from '../../words'
import { FillSheet } from './FillSheet'

const OPEN = ['waiting', 'paused']

/** What lies on the bench's own disk, where, and how large; by tap it is deleted. */
export function Copies({ ticket, canFill, orders }: { ticket: number; canFill: boolean; orders: Link['orders'] }) {
  const { data: copies = [] } = useCopies(ticket)
  const remove = useRemoveCopy(ticket)
  const [sure, setSure] = useState<number | null>(null)
  const [filling, setFilling] = useState<number | null>(null)
  const source = copies.find((c) => c.order === filling)
  if (copies.length === 0) return null
  const newest = copies[copies.length - 1]!
  /** Is a drive being filled from it? Then it stays. */
  const isOpen = (copy: number) => orders.some((o) => o.copy_of === copy && OPEN.includes(o.state))
  return (
    <Commands page="copies" on={canFill ? { fill: () => setFilling(newest.order) } : {}} isOn={!source}>
    <section aria-label={T.copies} className="mt-3">
      <h2 className="text-s font-bold">{T.copies}</h2>
      {remove.error && <p className="text-m text-brick">{remove.error.message}</p>}
      <ul className="text-m">
        {copies.map((c) => (
          <li key={c.order} className="flex flex-wrap items-center gap-x-6 border-b border-hair py-1">
            <span className="min-w-0 flex-1 select-all break-all font-mono text-s max-sm:basis-full">{c.path}</span>
            <span className="text-s text-soft">{T.copySize(bytes(c.size), bytes(c.used))}</span>
            {c === newest ? <span data-fill={c.order}><Do of="copies" id="fill" /></span> : canFill && <button type="button" data-fill={c.order} className="touch min-h-9 text-indigo" onClick={() => setFilling(c.order)}>{T.fillShort}</button>}
            {!isOpen(c.order) && <button type="button" className="touch min-h-9 text-indigo" onClick={() => (sure === c.order ? remove.mutate(c.order) : setSure(c.order))}>{sure === c.order ? T.copyRemoveSure : T.copyRemove}</button>}
            {orders.filter((o) => o.copy_of === c.order && !OPEN.includes(o.state)).map((o) => (
              <span key={o.id} data-filled={o.state} className={`w-full pb-1 ${o.state === 'done' ? 'text-soft' : 'text-brick'}`}>
                {clock(o.made_at)} {T.fillEnds(o.drive ?? o.device ?? '', o.state)}{o.state !== 'done' && o.detail && `: ${o.detail}`}
              </span>
            ))}
          </li>
        ))}
      </ul>
      {source && <FillSheet ticket={ticket} copy={source} onClose={() => setFilling(null)} />}
    </section>
    </Commands>
  )
}

/** The bad places with what lives there; a press brings the loupe. */
export function Places({ ticket, read, surface, at, onPick }: { ticket: number; read: SurfaceRead; surface: Surface; at: number; onPick: (place: Place) => void }) {
  const first = Math.max(0, Math.min(at - 2, surface.places.length - 6))
  const shown = surface.places.slice(first, first + 6)
  const files = useLivesAt(ticket, read.device, shown.map((p) => p.first))
  return (
    <section aria-label={T.badPlaces} className="mt-3">
      <h2 className="flex flex-wrap items-baseline gap-x-4 text-s font-bold">
        {T.badPlacesOf(surface.places.length + surface.more_places)}
        <a className="touch text-m font-normal text-indigo underline underline-offset-4" href={surfaceCsv(ticket, read.id, 'places')} download>{T.placesCsv}</a>
        <a className="touch text-m font-normal text-indigo underline underline-offset-4" href={surfaceCsv(ticket, read.id, 'map')} download>{T.mapCsv}</a>
      </h2>
      <ul className="text-m">
        {shown.map((p, index) => (
          <li key={p.first} className="border-b border-hair">
            <button type="button" onClick={() => onPick(p)} className={`touch flex min-h-9 w-full flex-wrap items-center gap-x-6 text-left ${first + index === at ? 'bg-mat font-semibold' : ''}`}>
              <span className="w-64 whitespace-nowrap font-mono text-indigo">{p.first.toLocaleString('en')}{p.last > p.first && `–${p.last.toLocaleString('en')}`}</span>
              <span className={`w-44 whitespace-nowrap ${p.kind === 'slow' ? 'text-ochre-ink' : 'text-brick'}`}>{T.placeKinds[p.kind]}</span>
              <span className="min-w-0 flex-1 truncate">{livesAt(files.get(p.first), p.lives || T.nothingLives)}</span>
              {p.is_new && <strong className="text-brick">{T.placeNew}</strong>}
            </button>
          </li>
        ))}
      </ul>
    </section>
  )
}
