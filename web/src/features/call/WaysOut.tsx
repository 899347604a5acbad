import type { SheetRow } from '../../api/client'
import { useWords } from '../../api/words'
import { lowerFirst, minutes, percent } from '../../lib/format'
import { useCharges } from '../../api/workQueries'
import { money } from '../../lib/money'
import { T } from '../../words'

interface WaysOutProps {
  rows: readonly SheetRow[]
  chosen: number
  onChoose: (index: number) => void
}

const COLUMNS = 'grid grid-cols-[26px_minmax(0,1fr)_84px] gap-x-3 gap-y-1 md:grid-cols-[26px_minmax(0,1.5fr)_minmax(0,1.35fr)_92px_78px_minmax(0,1fr)] md:gap-3'

function Name({ row }: { row: SheetRow }) {
  const { move, words } = useWords()
  const option = row.option
  const fix = option.fix ?? option.held_fix
  const later = option.fixes.filter((f) => f !== fix)
  const flags = [row.is_call && T.theCall, row.over_budget && T.overBudget, row.over_worth && T.overWorth].filter(Boolean)
  return (
    <span className="min-w-0">
      <span className="block text-l font-semibold leading-6">{words.call_names[option.choice]}</span>
      <span className="block text-s text-soft">
        {fix ? lowerFirst(move(fix).name) : ''}{later.length > 0 && ` + ${later.map((f) => lowerFirst(move(f).name)).join(' + ')}`}
      </span>
      {flags.length > 0 && <span className={`block text-m font-semibold ${row.over_budget || row.over_worth ? 'text-brick' : 'text-ink'}`}>{flags.join(' · ')}</span>}
      {option.held_by.length > 0 && <span className="block text-m text-brick">{T.held}</span>}
    </span>
  )
}

/** The chance that it works and holds, and behind it in ochre the chance that it starts and comes back. */
function Chance({ row }: { row: SheetRow }) {
  const { p_success: holds, comeback_risk: back } = row.option
  return (
    <span className="max-md:order-1 max-md:col-span-2 max-md:col-start-2">
      <span className="flex flex-wrap items-baseline justify-between gap-x-2"><span className="whitespace-nowrap text-l">{percent(holds)}</span>{back >= 0.005 && <span className="text-s text-soft">{T.comesBack(percent(back))}</span>}</span>
      <span className="mt-1 flex h-2 overflow-hidden rounded-full bg-hair">
        <span className="moves h-full bg-pine" style={{ width: `${holds * 100}%` }} />
        <span className="moves h-full bg-ochre" style={{ width: `${back * 100}%` }} />
      </span>
    </span>
  )
}

/** All ways out side by side, best first under the customer's terms. */
export function WaysOut({ rows, chosen, onChoose }: WaysOutProps) {
  const shop = useCharges()
  return (
    <div role="radiogroup" aria-label={T.waysOut}>
      <div className={`${COLUMNS} border-b border-hair px-3 pb-1 text-s text-soft max-md:hidden`} aria-hidden>
        <span /><span>{T.waysOut}</span><span>{T.works}</span><span>{T.handsOnShort}</span><span className="text-right">{T.price}</span><span>{T.dataThen}</span>
      </div>
      {rows.map((row, index) => (
        <button
          key={`${row.option.choice}-${row.option.fix ?? row.option.held_fix ?? ''}`} type="button" role="radio" aria-checked={index === chosen}
          onClick={() => onChoose(index)}
          className={`${COLUMNS} w-full items-center border-b border-hair border-l-4 py-2 pr-3 pl-2 ${index === chosen ? 'border-l-ink bg-sheet' : 'border-l-transparent'}`}
        >
          <span className="text-center text-xl text-indigo">{index < 9 ? index + 1 : ''}</span>
          <Name row={row} />
          <Chance row={row} />
          <span className="text-m max-md:order-2 max-md:col-start-2">{row.option.hands_on_minutes > 0 ? minutes(row.option.hands_on_minutes) : '0 min'}<span className="block text-s text-soft">{row.option.unattended_minutes >= 1 ? `+ ${minutes(row.option.unattended_minutes)}` : ''}</span></span>
          <span className="text-right text-m">{money(row.price, shop, true)}<span className="block text-s text-soft">{row.option.parts >= 1 ? T.outlay(money(row.option.parts, shop, true)) : ''}</span></span>
          <span className="text-s max-md:order-3">{row.option.data_outcome}</span>
          {row.because.length > 0 && <span className="-mt-1 text-left text-s text-soft [grid-column:2/-1] max-md:order-4">{row.because.map(T.because).join(' ')}</span>}
        </button>
      ))}
    </div>
  )
}
