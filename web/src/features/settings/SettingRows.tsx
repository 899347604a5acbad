import { memo } from 'react'

import type { SettingRow } from '../../api/client'
import { useWords } from '../../api/words'
import { lowerFirst } from '../../lib/format'
import { keyName, TARGET_KEYS } from '../../lib/keymap'
import { T } from '../../words'
import type { Drafts } from './drafts'
import { valueName } from './sheet'

interface SettingRowsProps {
  rows: readonly SettingRow[]
  drafts: Drafts
  chosen: number
  /** Rows that something on the side speaks of. */
  marked: readonly string[]
  /** Digits answer a trial; the rows have them with the shift key. */
  isWaiting: boolean
  onChoose: (index: number) => void
  onValue: (row: SettingRow, value: string) => void
}

function Verdict({ row, state, isDraft }: { row: SettingRow; state: string; isDraft: boolean }) {
  const { gate } = useWords()
  const said: Record<string, { text: string; tone: string }> = {
    fits: { text: T.fits, tone: 'text-pine' },
    differs: { text: T.differs(gate(row.gate)), tone: 'text-brick font-bold' },
    unsure: { text: row.want === null ? T.notKnown : T.differsSoft(gate(row.gate)), tone: 'text-ochre-ink font-bold' },
    'not-shown': { text: T.notShown, tone: 'text-soft' },
    unread: { text: T.unread, tone: 'text-soft' },
  }
  const { text, tone } = said[state] ?? said['unread']!
  return (
    <span className="w-[104px] shrink-0 text-right xl:w-[124px]">
      <span className={`block text-m ${tone}`}>{text}</span>
      <span className="block text-s text-soft">{isDraft ? T.keptSoon : row.from_file && row.now ? T.fromFile : row.found && row.found !== row.now ? `${T.asFound}: ${lowerFirst(valueName(row, row.found))}` : ''}</span>
    </span>
  )
}

/** One row: its key, what it is and needs, its values as targets, and what the value does to the gate. */
const Row = memo(function Row({ row, index, shift, draft, isChosen, isMarked, onChoose, onValue }: {
  row: SettingRow; index: number; shift: boolean; draft: string | undefined; isChosen: boolean; isMarked: boolean
  onChoose: (index: number) => void; onValue: (row: SettingRow, value: string) => void
}) {
  const value = draft ?? row.now
  const state = value ? row.values.find((v) => v.id === value)?.state ?? row.state : row.state
  const wrong = state === 'differs'
  return (
    <li
      aria-current={isChosen || undefined} onClick={() => onChoose(index)} data-row={row.id} data-state={state}
      className={`flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-l-[5px] md:flex-nowrap border-b-hair py-1 pl-2 pr-1 ${isChosen ? 'border-l-indigo bg-sheet' : 'border-l-transparent'}`}
    >
      <span className={`w-5 shrink-0 text-center text-indigo ${shift ? 'text-m' : 'text-xl'}`}>{keyName(TARGET_KEYS[shift ? index + 10 : index] ?? '')}</span>
      <span className="min-w-0 flex-1 md:w-[210px] md:flex-none xl:w-[270px]">
        <span className="block text-l font-semibold">{row.name}{isMarked && <span className="ml-2 inline-block h-2 w-2 rounded-full bg-ochre align-middle" aria-hidden />}</span>
        <span title={row.why} className={`line-clamp-2 text-s ${wrong ? 'text-ink' : 'text-soft'}`}>{wrong ? row.because : row.why}</span>
      </span>
      <span role="radiogroup" aria-label={row.name} className="flex min-w-0 flex-wrap gap-1.5 max-md:order-last max-md:w-full md:flex-1">
        {row.values.map((v) => {
          const isNow = v.id === value
          return (
            <button
              key={v.id} type="button" role="radio" aria-checked={isNow} tabIndex={-1}
              onClick={() => { onChoose(index); onValue(row, v.id) }}
              className={`touch min-h-10 rounded border px-2 text-m ${isNow ? 'border-ink bg-ink font-semibold text-paper' : v.id === row.want ? 'border-ink bg-sheet' : 'border-hair bg-sheet text-soft'} ${v.id === 'not-shown' && !isNow ? 'border-transparent bg-transparent' : ''}`}
            >
              {v.name}
              {v.id === row.want && <span className={`block text-s font-normal leading-3 ${isNow ? '' : 'text-soft'}`}>{T.needs}</span>}
            </button>
          )
        })}
      </span>
      <Verdict row={row} state={state} isDraft={draft !== undefined} />
    </li>
  )
})

/** The sheet's rows, one key each. */
export function SettingRows({ rows, drafts, chosen, marked, isWaiting, onChoose, onValue }: SettingRowsProps) {
  return (
    <ol aria-label={T.settingsTitle}>
      {rows.map((row, index) => (
        <Row
          key={row.id} row={row} index={index} shift={isWaiting} draft={drafts[row.id]} isChosen={index === chosen} isMarked={marked.includes(row.id)}
          onChoose={onChoose} onValue={onValue}
        />
      ))}
    </ol>
  )
}
