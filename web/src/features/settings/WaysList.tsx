import type { Settings } from '../../api/client'
import { minutes } from '../../lib/format'
import { T } from '../../words'

/** A machine without a text setup: its own ways in, each a move to take in hand. */
export function WaysList({ sheet, chosen, onPick }: { sheet: Settings; chosen: number; onPick: (move: string) => void }) {
  return (
    <>
      <p className="mb-2 text-m text-soft">{T.noTextSetupHint}</p>
      <ol aria-label={T.noTextSetup}>
        {sheet.ways.map((way, index) => (
          <li key={way.name} aria-current={index === chosen || undefined} className={`border-b border-l-[5px] border-b-hair ${index === chosen ? 'border-l-indigo bg-sheet' : 'border-l-transparent'}`}>
            <button type="button" onClick={() => onPick(way.move)} className="flex w-full items-center gap-3 py-2 pl-2 pr-1">
              <span className="w-5 shrink-0 text-center text-xl text-indigo">{index + 1}</span>
              <span className="min-w-0 flex-1">
                <span className="block text-l font-semibold">{way.name}</span>
                <span className="block max-w-[80ch] text-m text-soft">{way.how}</span>
              </span>
              <span className="shrink-0 text-m text-soft">{minutes(way.minutes)}</span>
            </button>
          </li>
        ))}
      </ol>
    </>
  )
}
