import { useState } from 'react'
import { useLocation } from 'wouter'

import type { Capture, Drive } from '../../api/client'
import { useAddFile, useCaptures, useTicket, useWeigh } from '../../api/queries'
import { useHotkeys, type Hotkeys } from '../../lib/hotkeys'
import { toggleTheme } from '../../lib/theme'
import { KeyAction } from '../../ui/Key'
import { Note } from '../../ui/Note'
import { T } from '../../words'
import { DropZone } from '../ticket/DropZone'
import { TicketHead } from '../ticket'
import { BytesSheet } from './BytesSheet'
import { DriveSheet } from './DriveSheet'
import { SideBySide } from './TrendPane'

interface Shown {
  capture: Capture
  drive: Drive
}

/** Every drive of every capture on the ticket, newest capture first. */
function drives(captures: readonly Capture[]): Shown[] {
  return captures.flatMap((capture) => capture.devices.map((drive) => ({ capture, drive })))
}

/** The drive's own pages: verdict first, then what matters, then every reading. */
export function PagesInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  const { data: captures = [], error } = useCaptures(id)
  const addFile = useAddFile(id)
  const weigh = useWeigh(id)
  const [, navigate] = useLocation()
  const [at, setAt] = useState(0)
  const [compare, setCompare] = useState(false)
  const [raw, setRaw] = useState<{ path: string; at: number } | null>(null)
  const all = drives(captures)
  const shown = all[Math.min(at, all.length - 1)]
  const back = () => navigate(`/ticket/${id}`)
  const canWeigh = shown && shown.drive.weights && shown.capture.weighed !== shown.drive.device
  const weighShown = () => shown && weigh.mutate({ sha256: shown.capture.sha256, device: shown.drive.device })
  const facts = () => navigate(`/ticket/${id}?sheet=facts`)
  const keys: Hotkeys = { Escape: back, f: facts, b: () => navigate('/'), l: toggleTheme }
  for (const [index] of all.slice(0, 9).entries()) keys[String(index + 1)] = () => setAt(index)
  const showBytes = (kind: string, byte: number) => {
    const page = shown?.drive.pages.filter((p) => p.kind === kind && p.status === 'decoded').at(-1)
    if (page) setRaw({ path: page.path, at: byte })
  }
  const canCompare = (shown?.drive.trend?.captures ?? 1) > 1
  if (canWeigh) keys['w'] = () => weighShown()
  if (canCompare) keys['v'] = () => setCompare(!compare)
  useHotkeys(keys, raw === null)
  if (!ticket) return <p className="p-8 text-l text-soft">{T.loading}</p>
  return (
    <DropZone onFile={(file) => { addFile.mutate(file); setAt(0) }}>
      <TicketHead ticket={ticket} onGate={back} onBench={() => navigate('/')} onFacts={facts} />
      <main aria-label={T.pagesTitle} className="min-h-0 flex-1 overflow-y-auto px-7 py-4">
        <div className="mb-3 flex flex-wrap items-center gap-4">
          <h1 className="text-xl font-bold">{T.pagesTitle}</h1>
          {all.length > 1 && all.slice(0, 9).map(({ capture, drive }, index) => (
            <button
              key={`${capture.sha256}-${drive.device}`} type="button" onClick={() => setAt(index)} aria-pressed={drive === shown?.drive}
              className={`min-h-9 px-1 text-m ${drive === shown?.drive ? 'font-bold' : 'text-indigo'}`}
            >
              <span className="text-indigo">{index + 1}</span> <span className="font-mono">{drive.device || capture.name}</span>
              {capture.weighed === drive.device && ` · ${T.weighed('✓')}`}
            </button>
          ))}
          {canCompare && <KeyAction hotkey="V" label={T.sideBySide} onPress={() => setCompare(!compare)} strong={compare} />}
          <label className="ml-auto min-h-9 cursor-pointer text-m text-indigo underline underline-offset-4">
            {T.chooseFile}
            <input type="file" className="sr-only" aria-label={T.chooseFile} onChange={(e) => { for (const file of e.target.files ?? []) addFile.mutate(file) }} />
          </label>
          <KeyAction hotkey="Esc" label={T.backToTicket} onPress={back} />
        </div>
        {(addFile.error ?? weigh.error ?? error) && <div className="mb-3"><Note title={T.notKept}>{(addFile.error ?? weigh.error ?? error)?.message}</Note></div>}
        {all.length > 1 && !captures[0]?.weighed && (
          <p className="mb-3 border-l-4 border-ochre bg-sheet px-3 py-2 text-m">{T.pickDrive}</p>
        )}
        {shown && compare && canCompare ? (
          <SideBySide captures={captures} drive={shown.drive} />
        ) : shown ? (
          <DriveSheet capture={shown.capture} drive={shown.drive} onWeigh={canWeigh ? weighShown : null} onBytes={showBytes} />
        ) : (
          <div className="pt-16 text-center">
            <p className="text-xl font-semibold">{T.noPages}</p>
            <p className="mt-2 text-l text-soft">{T.noPagesHint}</p>
          </div>
        )}
      </main>
      {raw && shown && <BytesSheet ticket={id} sha256={shown.capture.sha256} path={raw.path} at={raw.at} onClose={() => setRaw(null)} />}
    </DropZone>
  )
}
