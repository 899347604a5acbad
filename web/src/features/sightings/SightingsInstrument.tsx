import { useState } from 'react'
import { useLocation } from 'wouter'

import type { Ticket } from '../../api/client'
import { useAddFile, useAppend, useSightings, useTicket } from '../../api/queries'
import { requestKey } from '../../lib/format'
import { useHotkeys, type Hotkeys } from '../../lib/hotkeys'
import { toggleTheme } from '../../lib/theme'
import { KeyAction } from '../../ui/Key'
import { Note } from '../../ui/Note'
import { T } from '../../words'
import { TicketHead } from '../ticket'
import { DropZone } from '../ticket/DropZone'
import { PatternLine, SightingsGrid } from './SightingsGrid'

/** Where the drive is seen: one tap a cell, and one sentence on what the pattern means. */
export function SightingsInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenSightings ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenSightings({ ticket }: { ticket: Ticket }) {
  const [, navigate] = useLocation()
  const [at, setAt] = useState<readonly [number, number]>([0, 0])
  const append = useAppend(ticket.id)
  const addFile = useAddFile(ticket.id)
  const { data: sheet, error } = useSightings(ticket)
  const lines = sheet ? [...sheet.lines, ...sheet.more] : []
  const columns = sheet?.vantages.length ?? 0
  const cell = lines[at[0]]?.cells[at[1]]
  const back = () => navigate(`/ticket/${ticket.id}`)
  const walk = (down: number, right: number) =>
    setAt(([line, column]) => [Math.max(0, Math.min(lines.length - 1, line + down)), Math.max(0, Math.min(columns - 1, column + right))])
  const say = (index: number) => {
    const choice = cell?.choices[index]
    if (!choice || ticket.closed_at) return
    if (choice.id !== cell.value) append.mutate({ entry: choice.entry, key: requestKey() })
    if (at[1] < columns - 1) walk(0, 1)
  }
  const keys: Hotkeys = {
    Escape: back, b: () => navigate('/'), l: toggleTheme, f: () => navigate(`/ticket/${ticket.id}?sheet=facts`),
    t: () => navigate(`/ticket/${ticket.id}/settings`), p: () => navigate(`/ticket/${ticket.id}/pages`),
    ArrowRight: () => walk(0, 1), ArrowLeft: () => walk(0, -1), ArrowDown: () => walk(1, 0), ArrowUp: () => walk(-1, 0),
    u: () => { if (cell?.entry != null && !ticket.closed_at) append.mutate({ entry: { undo: cell.entry }, key: requestKey() }) },
  }
  cell?.choices.forEach((_, index) => { keys[String(index + 1)] = () => say(index) })
  useHotkeys(keys)
  const failed = error ?? append.error ?? addFile.error
  return (
    <DropZone onFile={(file) => addFile.mutate(file)}>
      <TicketHead ticket={ticket} onGate={back} onBench={() => navigate('/')} onFacts={() => navigate(`/ticket/${ticket.id}?sheet=facts`)} />
      <main aria-label={T.sightingsTitle} className="min-h-0 flex-1 overflow-y-auto px-7 py-3">
        <div className="mb-2 flex items-baseline gap-4">
          <h1 className="text-xl font-bold">{T.sightingsTitle}</h1>
          <p className="min-w-0 flex-1 text-s text-soft">{T.sightingsHint}</p>
          <KeyAction hotkey="T" label={T.settings} onPress={() => navigate(`/ticket/${ticket.id}/settings`)} />
          <KeyAction hotkey="Esc" label={T.backToTicket} onPress={back} />
        </div>
        {failed && <div className="mb-3"><Note title={T.notKept}>{failed.message}</Note></div>}
        {append.isPending && append.failureCount > 0 && <div className="mb-3"><Note title={T.waiting} tone="ochre" /></div>}
        {sheet && <PatternLine sheet={sheet} />}
        {cell && !ticket.closed_at && (
          <div role="group" aria-label={`${lines[at[0]]?.name}, ${sheet?.vantages[at[1]]?.name}`} className="my-3 flex flex-wrap items-center gap-2">
            <span className="w-[168px] shrink-0 text-m font-bold">{sheet?.vantages[at[1]]?.name}</span>
            {cell.choices.map((choice, index) => (
              <button
                key={choice.id} type="button" onClick={() => say(index)} aria-pressed={choice.id === cell.value}
                className={`flex min-h-12 items-center gap-2.5 rounded-lg border border-line px-3.5 text-l ${choice.id === cell.value ? 'bg-ink text-paper' : 'bg-sheet'}`}
              >
                <span className={`text-xl ${choice.id === cell.value ? '' : 'text-indigo'}`}>{index + 1}</span>{choice.name}
              </button>
            ))}
            {cell.entry !== null && <KeyAction hotkey="U" label={T.undo} onPress={() => keys['u']?.(new KeyboardEvent('keydown'))} />}
          </div>
        )}
        {sheet && <SightingsGrid sheet={sheet} lines={lines} at={at} onCell={(line, column) => setAt([line, column])} />}
        {cell?.note && <p className="mt-3 text-m text-soft">{cell.note}</p>}
      </main>
    </DropZone>
  )
}
