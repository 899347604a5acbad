import { useRef } from 'react'
import { useLocation } from 'wouter'

import { api } from '../../api/client'
import { useShelf, useShelfChange } from '../../api/workQueries'
import { initials } from '../../lib/person'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { T } from '../../words'

/** The shop's shelf: what lies on it, what of it is reserved; in and out as CSV. */
export function ShelfPage() {
  const { data: shelf } = useShelf()
  const change = useShelfChange()
  const [, navigate] = useLocation()
  const file = useRef<HTMLInputElement>(null)
  const bench = () => navigate('/')
  const bringIn = async (chosen: File | undefined) => {
    if (chosen) {
      const text = await chosen.text()
      change.mutate(() => api.bringInShelf(text, initials()))
    }
    if (file.current) file.current.value = ''
  }
  return (
    <Commands page="shelf" on={{ back: bench, bench, bringIn: () => file.current?.click(), takeOut: () => { location.href = '/api/shelf.csv' } }}>
      <main className="h-full overflow-y-auto px-4 py-4 lg:px-7">
        <div className="mb-1 flex flex-wrap items-baseline gap-x-5 gap-y-1">
          <h1 className="text-xl font-bold">{T.shelfTitle}</h1>
          <span className="ml-auto flex flex-wrap gap-x-4"><Do of="shelf" id="bringIn" strong /><Do of="shelf" id="takeOut" /><Do of="shelf" id="back" /></span>
        </div>
        <p className="mb-3 text-s text-soft">{T.shelfHint}</p>
        <input ref={file} type="file" accept=".csv,text/csv" aria-label={T.shelfIn} className="hidden" onChange={(e) => void bringIn(e.target.files?.[0])} />
        {change.error && <div className="mb-3"><Note title={T.notKept}>{change.error.message}</Note></div>}
        {shelf?.items.length === 0 && <p className="py-6 text-xl font-bold">{T.shelfEmpty}</p>}
        <ul className="max-w-[900px]">
          {shelf?.items.map((item) => (
            <li key={item.id} className="flex flex-wrap items-center gap-x-5 border-b border-hair py-1.5">
              <span className="w-56 min-w-0 truncate text-l font-semibold">{item.name}</span>
              <span className="w-64 text-m text-soft">{[item.interface.toUpperCase(), item.form, item.size_gb ? `${item.size_gb} GB` : '', item.height_mm ? `${item.height_mm} mm` : ''].filter(Boolean).join(' · ')}</span>
              <span className="w-16 text-right text-m tabular-nums">{item.price}</span>
              <span className="w-32 text-m">{T.partLeft(item.left)}{item.count > item.left && <span className="text-soft"> · {T.shelfGone(item.count - item.left)}</span>}</span>
              <button type="button" onClick={() => change.mutate(() => api.removeFromShelf(item.id))} aria-label={`${T.shelfRemove}: ${item.name}`} className="touch ml-auto min-h-9 px-1 text-s text-indigo">{T.shelfRemove}</button>
            </li>
          ))}
        </ul>
        {shelf && <p className="mt-4 font-mono text-s text-soft">{T.shelfColumns(shelf.columns.join(', '))}</p>}
      </main>
    </Commands>
  )
}
