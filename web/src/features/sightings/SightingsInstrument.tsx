import { useState } from 'react'

import type { Ticket } from '../../api/client'
import { useAddFile, useAppend, useSightings, useTicket } from '../../api/queries'
import { requestKey } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { InstrumentFrame } from '../instrument'
import { PatternLine, SightingsGrid } from './SightingsGrid'

/** Where the drive is seen: one tap a cell, and one sentence on what the pattern means. */
export function SightingsInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenSightings ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenSightings({ ticket }: { ticket: Ticket }) {
  const [at, setAt] = useState<readonly [number, number]>([0, 0])
  const append = useAppend(ticket.id)
  const addFile = useAddFile(ticket.id)
  const { data: sheet, error } = useSightings(ticket)
  const lines = sheet ? [...sheet.lines, ...sheet.more] : []
  const columns = sheet?.vantages.length ?? 0
  const cell = lines[at[0]]?.cells[at[1]]
  const walk = (down: number, right: number) =>
    setAt(([line, column]) => [Math.max(0, Math.min(lines.length - 1, line + down)), Math.max(0, Math.min(columns - 1, column + right))])
  const say = (index: number) => {
    const choice = cell?.choices[index]
    if (!choice || ticket.closed_at) return
    if (choice.id !== cell.value) append.mutate({ entries: [choice.entry], key: requestKey() })
    if (at[1] < columns - 1) walk(0, 1)
  }
  const undo = cell?.entry != null && !ticket.closed_at ? cell.entry : null
  const on: Handlers<'sightings'> = {
    right: () => walk(0, 1), left: () => walk(0, -1), down: () => walk(1, 0), up: () => walk(-1, 0),
    ...(undo !== null && { undo: () => append.mutate({ entries: [{ undo }], key: requestKey() }) }),
  }
  return (
    <InstrumentFrame
      page="sightings" ticket={ticket} title={T.sightingsTitle} reading={T.sightingsHint} on={on} targets={(cell?.choices ?? []).map((_, index) => () => say(index))}
      error={error ?? append.error ?? addFile.error} isWaiting={append.isPending && append.failureCount > 0}
      onFile={(file) => addFile.mutate(file)}
    >
      {sheet && <PatternLine sheet={sheet} />}
      {cell && !ticket.closed_at && (
        <div role="group" aria-label={`${lines[at[0]]?.name}, ${sheet?.vantages[at[1]]?.name}`} className="my-3 flex flex-wrap items-center gap-2">
          <span className="w-[168px] shrink-0 text-m font-bold max-md:w-full">{sheet?.vantages[at[1]]?.name}</span>
          {cell.choices.map((choice, index) => (
            <button
              key={choice.id} type="button" onClick={() => say(index)} aria-pressed={choice.id === cell.value}
              className={`flex min-h-12 items-center gap-2.5 rounded-lg border border-line px-3.5 text-l ${choice.id === cell.value ? 'bg-ink text-paper' : 'bg-sheet'}`}
            >
              <span className={`text-xl ${choice.id === cell.value ? '' : 'text-indigo'}`}>{index + 1}</span>{choice.name}
            </button>
          ))}
          <Do of="sightings" id="undo" />
        </div>
      )}
      {sheet && <SightingsGrid sheet={sheet} lines={lines} at={at} onCell={(line, column) => setAt([line, column])} />}
      {cell?.note && <p className="mt-3 text-m text-soft">{cell.note}</p>}
    </InstrumentFrame>
  )
}
