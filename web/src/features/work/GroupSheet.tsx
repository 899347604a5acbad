import { useState } from 'react'

import type { Guide, GroupIn } from '../../api/client'
import { SHEET_KEYS } from '../../lib/keymap'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface GroupSheetProps {
  guide: Guide
  error: Error | null
  onOut: (group: GroupIn) => void
  onClose: () => void
}

const NAMES = T.trayNames.map(([name, what, count]) => ({ name, what, count }))
const FIELDS = [1, 2, 3, 4, 5, 6, 7, 8, 9]

/** First tap: what came off. Second tap: where it was. As on the last machine of this model, it is one. */
export function GroupSheet({ guide, error, onOut, onClose }: GroupSheetProps) {
  const [group, setGroup] = useState<{ name: string; what: string; count: number; kind: string } | null>(null)
  const [isSeveral, setSeveral] = useState(false)
  const [fields, setFields] = useState<readonly number[]>([])
  const [name, setName] = useState('')
  const known = guide.next
  const asLast = () => known && onOut({ name: known.name, what: known.what, count: known.count, kind: known.kind, fields: known.fields })
  const keep = (at: readonly number[]) => group && onOut({ ...group, fields: [...at] })
  const touch = (field: number) => {
    if (!isSeveral) return keep([field])
    setFields(fields.includes(field) ? fields.filter((f) => f !== field) : [...fields, field])
  }
  const more = (by: number) => group && setGroup({ ...group, count: Math.max(1, Math.min(200, group.count + by)) })
  const targets = group ? FIELDS.map((field) => () => { touch(field) }) : [...(known ? [asLast] : []), ...NAMES.map((n) => () => setGroup({ ...n, kind: '' }))]
  const on = group ? { several: () => setSeveral(!isSeveral), more: () => { more(1) }, fewer: () => { more(-1) }, ...((fields.length > 0 || isSeveral) && { keep: () => { keep(fields) } }) } : {}
  const offset = known ? 1 : 0
  return (
    <Commands page="group" on={on} targets={targets} targetKeys={SHEET_KEYS}>
      <Sheet title={group ? group.name : T.trayTitle} isOpen onClose={onClose}>
        {error && <div className="mb-3"><Note title={T.notKept}>{error.message}</Note></div>}
        {group ? (
          <>
            <p className="-mt-3 mb-3 text-m text-soft">{T.trayWhere}</p>
            <div className="mb-3 flex flex-wrap items-center gap-3 text-l">
              <button type="button" aria-label={T.trayFewer} onClick={() => more(-1)} className="min-h-12 min-w-12 rounded-lg text-center border border-line bg-sheet text-xl text-indigo">−</button>
              <strong className="min-w-8 text-center text-xl" aria-live="polite">{group.count}</strong>
              <button type="button" aria-label={T.trayMore} onClick={() => more(1)} className="min-h-12 min-w-12 rounded-lg text-center border border-line bg-sheet text-xl text-indigo">+</button>
              <span className="text-m text-soft">{T.outKinds[group.what]}</span>
              <input aria-label={T.trayKind} placeholder={T.trayKind} maxLength={60} value={group.kind} onChange={(e) => setGroup({ ...group, kind: e.target.value })} className="min-h-12 min-w-0 flex-1 rounded border border-line bg-sheet px-3" />
            </div>
            <div className="grid max-w-[420px] grid-cols-3 gap-2">
              {FIELDS.map((field) => (
                <button
                  key={field} type="button" aria-label={T.field(field)} aria-pressed={fields.includes(field)} onClick={() => touch(field)}
                  className="min-h-16 rounded-lg border text-center border-line bg-sheet text-xl text-indigo aria-pressed:border-ink aria-pressed:bg-ink aria-pressed:text-paper"
                >
                  {field}
                </button>
              ))}
            </div>
            <div className="mt-3 flex flex-wrap gap-x-5">
              <Do of="group" id="several" strong={isSeveral} />
              <Do of="group" id="keep" strong />
            </div>
          </>
        ) : (
          <>
            <div className="grid gap-1.5 sm:grid-cols-2">
              {known && (
                <button type="button" onClick={asLast} className="flex min-h-14 items-center gap-3 rounded-lg border border-indigo bg-sheet px-3.5 sm:col-span-2">
                  <span className="w-4 text-center text-xl text-indigo">1</span>
                  <span><span className="block text-l font-semibold">{known.name}, {known.count}</span><span className="block text-s text-soft">{T.trayAsLast}</span></span>
                </button>
              )}
              {NAMES.map((n, index) => (
                <button key={n.name} type="button" onClick={() => setGroup({ ...n, kind: '' })} className="flex min-h-12 items-center gap-3 rounded-lg border border-line bg-sheet px-3.5 text-m">
                  <span className="w-4 text-center text-xl text-indigo">{SHEET_KEYS[index + offset]}</span>{n.name}
                </button>
              ))}
            </div>
            <form className="mt-4 flex gap-2" onSubmit={(e) => { e.preventDefault(); if (name.trim()) setGroup({ name: name.trim(), what: 'screw', count: 1, kind: '' }) }}>
              <input aria-label={T.trayOther} placeholder={T.trayOther} maxLength={120} value={name} onChange={(e) => setName(e.target.value)} className="min-h-12 min-w-0 flex-1 rounded border border-line bg-sheet px-3 text-l" />
              <button type="submit" disabled={!name.trim()} className="min-h-12 rounded border border-line bg-sheet px-4 text-m text-indigo disabled:opacity-50">{T.trayKeep}</button>
            </form>
          </>
        )}
      </Sheet>
    </Commands>
  )
}
