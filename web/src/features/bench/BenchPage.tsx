import { useRef, useState } from 'react'
import { useLocation } from 'wouter'

import { askToTell, mayAskToTell } from './WorkNotices'
import type { Bench, BenchRow as Row } from '../../api/client'
import { useKnocks } from '../../api/knockQueries'
import { useBench } from '../../api/queries'
import { useWords } from '../../api/words'
import { useWidth } from '../../lib/width'
import { today } from '../../lib/format'
import { keyOf, type Handlers } from '../../lib/keymap'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { IntakeSheet } from '../intake'
import { KeyBookSheet } from '../keys'
import { PracticeSheet } from '../link'
import { DevicesSheet } from '../people'
import { gateX, lineShape } from '../line/geometry'
import { T } from '../../words'
import { BenchRow } from './BenchRow'
import { BAY_COLUMN, freeBays, groupsOf, LINE_COLUMN, LINE_WIDTH, NAME_COLUMN, TODO_COLUMN } from './columns'
import { FindSheet } from './FindSheet'

type SheetId = 'intake' | 'find' | 'keys' | 'practice' | 'devices'

/** The names of the gates over the lines of all rows. */
function GateNames() {
  const { words } = useWords()
  const box = useRef<HTMLSpanElement>(null)
  const width = useWidth(box, LINE_WIDTH)
  const { start, end } = lineShape(width, false)
  return (
    <div className="hidden h-6 gap-3 border-l-[6px] border-transparent pr-7 text-m text-soft lg:flex" aria-hidden>
      <span className={BAY_COLUMN} />
      <span className={NAME_COLUMN} />
      <span ref={box} className={`relative ${LINE_COLUMN}`}>
        {words.gates.map((gate, index) => (
          <span key={gate.id} className={`absolute -translate-x-1/2 ${width < 520 ? 'text-s' : ''}`} style={{ left: gateX(index, width, start, width - end) }}>{gate.name}</span>
        ))}
      </span>
      <span className={TODO_COLUMN} />
    </div>
  )
}

/** Nothing yet: the two ways to begin, as large as they matter. */
function EmptyBench({ onTake, onPractice, onShop }: { onTake: () => void; onPractice: () => void; onShop: () => void }) {
  return (
    <div className="px-4 pt-16 text-center">
      <p className="text-xl font-semibold">{T.benchEmpty}</p>
      <p className="mt-2 text-l text-soft">{T.benchEmptyHint}</p>
      <p className="mt-6 flex flex-wrap justify-center gap-4">
        <button type="button" onClick={onShop} className="min-h-14 rounded-lg border border-line bg-sheet px-6 text-l font-semibold text-indigo">{T.benchEmptyShop} <span className="font-normal">· {keyOf('bench', 'shop')}</span></button>
        <button type="button" onClick={onTake} className="min-h-14 rounded-lg bg-indigo px-6 text-l font-semibold text-paper">{T.benchEmptyTake} <span className="font-normal">· {keyOf('bench', 'takeIn')}</span></button>
        <button type="button" onClick={onPractice} className="min-h-14 rounded-lg border border-line bg-sheet px-6 text-l font-semibold text-indigo">{T.benchEmptyPractice} <span className="font-normal">· {keyOf('bench', 'practice')}</span></button>
      </p>
    </div>
  )
}

function Rows({ rows, onOpen }: { rows: readonly Row[]; onOpen: (row: Row) => void }) {
  return groupsOf(rows).map(({ turn, title, group }) => (
    <section key={turn} aria-label={title}>
      <h2 className="flex flex-wrap items-baseline gap-x-4 border-b border-hair px-4 py-1.5 text-s font-bold lg:px-7">{title}{turn === 'running' && <Do of="bench" id="tellMe" />}</h2>
      {group.map((row) => <BenchRow key={row.id} row={row} onOpen={() => onOpen(row)} />)}
    </section>
  ))
}

export function BenchPage() {
  const { data, error } = useBench()
  if (data) return <OpenBench bench={data} />
  return error ? <div className="p-8"><Note title={T.away}>{error.message}</Note></div> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenBench({ bench }: { bench: Bench }) {
  const [, navigate] = useLocation()
  const [sheet, setSheet] = useState<SheetId | null>(null)
  const [bay, setBay] = useState<number | null>(null)
  const { rows } = bench
  const open = (row: Row) => navigate(`/ticket/${row.id}`)
  const close = () => { setSheet(null); setBay(null) }
  const free = freeBays(bench)
  const { data: knocks } = useKnocks()
  const knock = knocks?.knocks[0]
  const on: Handlers<'bench'> = {
    takeIn: () => setSheet('intake'), find: () => setSheet('find'), keyBook: () => setSheet('keys'), practice: () => setSheet('practice'), devices: () => setSheet('devices'), shelf: () => navigate('/shelf'), shop: () => navigate('/shop'),
    ...(mayAskToTell() && rows.some((r) => r.link?.work || r.running) && { tellMe: askToTell }),
    ...(knock && { claim: () => navigate(`/claim/${knock.token}`) }),
    odds: () => navigate('/odds'), down: () => walk(1), up: () => walk(-1),
  }
  const targets = Array.from({ length: 9 }, (_, index) => () => {
    const row = rows.find((r) => r.bay === index + 1)
    if (row) open(row)
  })
  const hands = rows.filter((r) => r.turn === 'hands').length
  return (
    <Commands page="bench" on={on} targets={targets} isOn={sheet === null}>
      <main className="h-full overflow-y-auto pb-8">
        <header className="flex flex-wrap items-baseline gap-x-4 px-4 pt-3 lg:px-7 lg:pt-4">
          <h1 className="min-w-0 max-w-full truncate text-xl font-bold">{bench.shop}</h1>
          <span className="min-w-0 truncate text-m text-soft max-sm:w-full">{today()} · {T.onBench(rows.length, hands)}</span>
          <span className="ml-auto flex flex-wrap gap-x-2 max-lg:ml-0 xl:gap-x-3">
            <Do of="bench" id="takeIn" />
            <Do of="bench" id="find" />
            <Do of="bench" id="keyBook" />
            <Do of="bench" id="practice" />
            <Do of="bench" id="shelf" />
            <Do of="bench" id="devices" />
            <Do of="bench" id="odds" />
            <Do of="bench" id="light" />
            <Do of="bench" id="help" />
          </span>
        </header>
        {bench.notices.map((notice) => <div key={notice} className="mx-4 my-2 lg:mx-7"><Note title={notice} tone="ochre" /></div>)}
        {knock && (
          <div className="mx-4 my-2 flex flex-wrap items-baseline gap-x-4 border-l-4 border-indigo bg-sheet px-3 py-1.5 text-m lg:mx-7" role="status" data-waits>
            <span>{T.claimWaits(knocks.knocks.length, knock.machine || T.claimUnnamed, knock.serial)}</span><Do of="bench" id="claim" strong />
          </div>
        )}
        {rows.length > 0 ? <><GateNames /><Rows rows={rows} onOpen={open} /></> : <EmptyBench onTake={() => setSheet('intake')} onPractice={() => setSheet('practice')} onShop={() => navigate('/shop')} />}
        {free.length > 0 && (
          <section aria-label={T.freeBays} className="flex flex-wrap items-baseline gap-x-2 gap-y-2 px-4 pt-4 lg:px-7">
            <h2 className="mr-2 text-s font-bold">{T.freeBays}</h2>
            {free.map((b) => (
              <button
                key={b} type="button" aria-label={T.takeInAt(b)} title={T.takeInAt(b)} onClick={() => { setBay(b); setSheet('intake') }}
                className="touch flex min-h-10 min-w-10 items-center justify-center rounded border border-dashed border-line text-xl text-soft"
              >
                {b}
              </button>
            ))}
          </section>
        )}
      </main>
      {sheet === 'intake' && <IntakeSheet free={bay === null ? free : [bay, ...free.filter((b) => b !== bay)]} onClose={close} />}
      {sheet === 'keys' && <KeyBookSheet onClose={close} />}
      {sheet === 'devices' && <DevicesSheet onClose={close} />}
      {sheet === 'practice' && <PracticeSheet bay={bay ?? free[0] ?? null} onClose={close} />}
      {sheet === 'find' && <FindSheet onClose={close} />}
    </Commands>
  )
}

/** Moves the focus from row to row. */
function walk(by: number): void {
  const rows = [...document.querySelectorAll<HTMLElement>('[data-bench-row]')]
  const at = rows.findIndex((row) => row === document.activeElement)
  rows[Math.max(0, Math.min(rows.length - 1, at + by))]?.focus()
}
