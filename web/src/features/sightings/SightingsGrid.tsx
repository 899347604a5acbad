import type { Cell, DriveLine, Sightings } from '../../api/client'
import { useWords } from '../../api/words'
import { lowerFirst } from '../../lib/format'
import { T } from '../../words'

const TONE: Record<string, string> = { right: 'text-pine', 'zero-size': 'text-brick', garbled: 'text-ochre', absent: 'text-brick', 'no-such-tool': 'text-soft' }

/** What is seen, as a sign: a whole drive, one with nothing in it, one that is scrambled, none at all. */
function Seen({ value, large }: { value: string | null; large: boolean }) {
  const size = large ? 40 : 24
  return (
    <svg width={size} height={size * 0.7} viewBox="0 0 40 28" aria-hidden className={`shrink-0 ${value ? TONE[value] : 'text-line'}`} stroke="currentColor" strokeWidth="2.5" fill="none">
      {value === 'right' && <><rect x="3" y="3" width="34" height="22" rx="3" fill="currentColor" /><path d="M9 19h13" stroke="var(--sheet)" /></>}
      {value === 'zero-size' && <><rect x="3" y="3" width="34" height="22" rx="3" /><ellipse cx="20" cy="14" rx="5" ry="7" /></>}
      {value === 'garbled' && <><path d="M3 6v19h9M37 22V3h-9" /><path d="M6 12l7-5 5 9 6-10 5 12 5-6" /></>}
      {value === 'absent' && <><rect x="3" y="3" width="34" height="22" rx="3" strokeDasharray="3 4" /><path d="M8 24L32 4" /></>}
      {value === 'no-such-tool' && <path d="M12 14h16" />}
      {value === null && <path d="M17 14h6" strokeDasharray="2 2" />}
    </svg>
  )
}

interface GridProps {
  sheet: Sightings
  lines: readonly DriveLine[]
  at: readonly [number, number]
  onCell: (line: number, column: number) => void
}

function CellButton({ line, cell, place, isAt, large, onPick }: { line: DriveLine; cell: Cell; place: string; isAt: boolean; large: boolean; onPick: () => void }) {
  const name = cell.choices.find((c) => c.id === cell.value)?.name
  return (
    <td className="p-0.5 max-md:block max-md:w-1/2">
      <button
        type="button" tabIndex={-1} aria-current={isAt || undefined} onClick={onPick} title={cell.note}
        data-cell={`${line.what}-${cell.at}`} data-value={cell.value ?? ''}
        className={`flex w-full items-center gap-2.5 rounded-lg border px-3 ${large ? 'min-h-20' : 'min-h-10'} ${isAt ? 'border-indigo bg-sheet outline-2 outline-indigo' : cell.value ? 'border-line bg-sheet' : 'border-hair'}`}
      >
        <Seen value={cell.value} large={large} />
        <span className="min-w-0">
          <span className="sr-only">{line.name}, </span>
          <span className="block text-s text-soft md:sr-only">{place}: </span>
          <span className={`block ${large ? 'text-l font-semibold' : 'text-s'} ${cell.value ? '' : 'text-soft'}`}>{name ?? (large ? T.notLooked : <span className="sr-only">{T.notLooked}</span>)}</span>
          {cell.from_file && <span className="block truncate text-s text-soft">{T.fromFile}</span>}
        </span>
      </button>
    </td>
  )
}

/** Drives against places where they may be seen; the machine's own drive large, whatever else is listed below it. */
export function SightingsGrid({ sheet, lines, at, onCell }: GridProps) {
  return (
    <table aria-label={T.sightingsTitle} className="w-full table-fixed max-md:block">
      <thead className="max-md:hidden">
        <tr>
          <td className="w-[130px] xl:w-[170px]" />
          {sheet.vantages.map((v, column) => (
            <th key={v.id} scope="col" className={`px-1.5 pb-1.5 text-left align-bottom ${at[1] === column ? '' : 'text-soft'}`}>
              <span className="block text-m font-bold">{v.name}</span>
              <span className="block text-s font-normal">{v.asks}</span>
            </th>
          ))}
        </tr>
      </thead>
      <tbody className="max-md:block">
        {lines.map((line, index) => (
          <tr key={line.what} className="max-md:mt-2 max-md:flex max-md:flex-wrap">
            <th scope="row" className={`pr-3 text-left align-middle font-semibold max-md:w-full max-md:pb-1 ${index === 0 ? 'text-l' : 'text-m text-soft'}`}>{index === 0 ? line.name : upper(line.name)}</th>
            {line.cells.map((cell, column) => (
              <CellButton
                key={cell.at} line={line} cell={cell} place={sheet.vantages[column]?.name ?? cell.at} large={index === 0} isAt={at[0] === index && at[1] === column} onPick={() => onCell(index, column)}
              />
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  )
}

const upper = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1)

/** What the filled cells mean together, and which faults it speaks for. */
export function PatternLine({ sheet }: { sheet: Sightings }) {
  const { fault, gate } = useWords()
  const { pattern } = sheet
  if (!pattern) return <p className="text-l text-soft">{T.noPattern}</p>
  return (
    <section aria-live="polite" data-pattern={pattern.id} className="border-l-[5px] border-ink bg-sheet px-4 py-3">
      <p className="text-xl font-bold">{pattern.text}</p>
      <p className="text-l">{pattern.means}</p>
      <p className="text-m text-soft">{gate(pattern.gate)}{pattern.faults.length > 0 && ` · ${T.speaksFor} ${pattern.faults.map((f) => lowerFirst(fault(f))).join(', ')}`}</p>
      {pattern.elsewhere && <p data-elsewhere className="mt-1 text-m font-semibold">{pattern.elsewhere}</p>}
    </section>
  )
}
