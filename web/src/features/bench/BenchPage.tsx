import { useState } from 'react'
import { useLocation } from 'wouter'

import { useBench } from '../../api/queries'
import { useWords } from '../../api/words'
import type { BenchRow as Row } from '../../api/client'
import { useHotkeys, type Hotkeys } from '../../lib/hotkeys'
import { toggleTheme } from '../../lib/theme'
import { KeyAction } from '../../ui/Key'
import { Note } from '../../ui/Note'
import { IntakeSheet } from '../intake'
import { KeyBookSheet } from '../keys'
import { PracticeSheet } from '../link'
import { gateX } from '../line/geometry'
import { T } from '../../words'
import { BenchRow } from './BenchRow'
import { BAY_COLUMN, LINE_COLUMN, LINE_WIDTH, NAME_COLUMN, TODO_COLUMN } from './columns'
import { FindSheet } from './FindSheet'

const GROUPS = [
  { turn: 'hands', title: T.handsWanted },
  { turn: 'running', title: T.running },
  { turn: 'done', title: T.done },
] as const

function today(): string {
  return new Date().toLocaleDateString([], { weekday: 'long' }) + ' ' + new Date().toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', hour12: false })
}

export function BenchPage() {
  const { data, error } = useBench()
  const { words } = useWords()
  const [, navigate] = useLocation()
  const [sheet, setSheet] = useState<'intake' | 'find' | 'keys' | 'practice' | null>(null)
  const [bay, setBay] = useState<number | null>(null)
  const rows = data?.rows ?? []
  const open = (row: Row) => navigate(`/ticket/${row.id}`)
  const keys: Hotkeys = {
    n: () => setSheet('intake'),
    '/': () => setSheet('find'),
    l: toggleTheme,
    k: () => setSheet('keys'),
    p: () => setSheet('practice'),
    o: () => navigate('/odds'),
    ArrowDown: () => walk(1),
    ArrowUp: () => walk(-1),
  }
  for (const row of rows) if (row.bay && row.bay <= 9) keys[String(row.bay)] = () => open(row)
  useHotkeys(keys, sheet === null)

  if (!data) {
    return error ? <div className="p-8"><Note title={T.away}>{error.message}</Note></div> : <p className="p-8 text-l text-soft">{T.loading}</p>
  }
  const taken = rows.flatMap((r) => r.bay ?? [])
  const free = Array.from({ length: data.bays }, (_, index) => index + 1).filter((b) => !taken.includes(b))
  const hands = rows.filter((r) => r.turn === 'hands').length
  return (
    <main className="h-full overflow-y-auto pb-8">
      <header className="flex items-baseline gap-4 px-7 pt-4">
        <h1 className="shrink-0 text-xl font-bold">{data.shop}</h1>
        <span className="min-w-0 truncate text-m text-soft">{today()} · {T.onBench(rows.length, hands)}</span>
        <span className="ml-auto flex shrink-0 gap-3">
          <KeyAction hotkey="N" label={T.takeIn} onPress={() => setSheet('intake')} />
          <KeyAction hotkey="/" label={T.find} onPress={() => setSheet('find')} />
          <KeyAction hotkey="K" label={T.keyBook} onPress={() => setSheet('keys')} />
          <KeyAction hotkey="P" label={T.practice} onPress={() => setSheet('practice')} />
          <KeyAction hotkey="O" label={T.odds} onPress={() => navigate('/odds')} />
          <KeyAction hotkey="L" label={T.light} onPress={toggleTheme} />
        </span>
      </header>
      {rows.length > 0 ? (
        <>
          <div className="flex h-6 gap-3 border-l-[6px] border-transparent pr-7 text-m text-soft" aria-hidden>
            <span className={BAY_COLUMN} />
            <span className={NAME_COLUMN} />
            <span className={`relative ${LINE_COLUMN}`}>
              {words.gates.map((gate, index) => (
                <span key={gate.id} className="absolute -translate-x-1/2" style={{ left: `${(gateX(index, LINE_WIDTH, 12, 14) / LINE_WIDTH) * 100}%` }}>{gate.name}</span>
              ))}
            </span>
            <span className={TODO_COLUMN} />
          </div>
          {GROUPS.map(({ turn, title }) => {
            const group = rows.filter((r) => r.turn === turn)
            if (group.length === 0) return null
            return (
              <section key={turn} aria-label={title}>
                <h2 className="border-b border-hair px-7 py-1.5 text-s font-bold">{title}</h2>
                {group.map((row) => <BenchRow key={row.id} row={row} onOpen={() => open(row)} />)}
              </section>
            )
          })}
        </>
      ) : (
        <div className="px-7 pt-24 text-center">
          <p className="text-xl font-semibold">{T.benchEmpty}</p>
          <p className="mt-2 text-l text-soft">{T.benchEmptyHint}</p>
        </div>
      )}
      {free.length > 0 && (
        <section aria-label={T.freeBays} className="flex flex-wrap items-baseline gap-x-2 px-7 pt-4">
          <h2 className="mr-2 text-s font-bold">{T.freeBays}</h2>
          {free.map((b) => (
            <button
              key={b} type="button" aria-label={T.connectPractice(b)} title={T.connectPractice(b)} onClick={() => { setBay(b); setSheet('practice') }}
              className="flex min-h-10 min-w-10 items-center justify-center rounded border border-dashed border-line text-xl text-soft"
            >
              {b}
            </button>
          ))}
          <span className="text-s text-soft">{T.connectPracticeHint}</span>
        </section>
      )}
      {sheet === 'intake' && <IntakeSheet bays={data.bays} taken={rows.flatMap((r) => r.bay ?? [])} onClose={() => setSheet(null)} />}
      {sheet === 'keys' && <KeyBookSheet onClose={() => setSheet(null)} />}
      {sheet === 'practice' && <PracticeSheet bay={bay ?? free[0] ?? null} onClose={() => { setSheet(null); setBay(null) }} />}
      {sheet === 'find' && <FindSheet onClose={() => setSheet(null)} />}
    </main>
  )
}

/** Moves the focus from row to row. */
function walk(by: number): void {
  const rows = [...document.querySelectorAll<HTMLElement>('[data-bench-row]')]
  const at = rows.findIndex((row) => row === document.activeElement)
  rows[Math.max(0, Math.min(rows.length - 1, at + by))]?.focus()
}
