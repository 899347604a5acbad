import { useState } from 'react'

import type { Capture, Drive } from '../../api/client'
import { useAddFile, useCaptures, useTicket, useWeigh } from '../../api/queries'
import type { Handlers } from '../../lib/keymap'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { InstrumentFrame, NothingYet } from '../instrument'
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
  const [chosen, setAt] = useState<number | null>(null)
  const [compare, setCompare] = useState(false)
  const [raw, setRaw] = useState<{ path: string; at: number } | null>(null)
  const all = drives(captures)
  const own = all.findIndex(({ capture, drive }) => capture === captures[0] && capture.weighed === drive.device)
  const shown = all[Math.min(chosen ?? Math.max(0, own), all.length - 1)]
  const mayBeIt = shown?.capture.asks.includes(shown.drive.device)
  const canWeigh = shown && (mayBeIt || (shown.drive.weights && shown.capture.weighed !== shown.drive.device))
  const canCompare = (shown?.drive.trend?.captures ?? 1) > 1
  const showBytes = (kind: string, byte: number) => {
    const page = shown?.drive.pages.filter((p) => p.kind === kind && p.status === 'decoded').at(-1)
    if (page) setRaw({ path: page.path, at: byte })
  }
  if (!ticket) return <p className="p-8 text-l text-soft">{T.loading}</p>
  const on: Handlers<'pages'> = {
    ...(canWeigh && { weigh: () => weigh.mutate({ sha256: shown.capture.sha256, device: shown.drive.device }) }),
    ...(canCompare && { compare: () => setCompare(!compare) }),
  }
  return (
    <InstrumentFrame
      page="pages" ticket={ticket} title={T.pagesTitle} on={on} targets={all.slice(0, 9).map((_, index) => () => setAt(index))} isOn={raw === null}
      error={addFile.error ?? weigh.error ?? error} onFile={(file) => { addFile.mutate(file); setAt(null) }}
      tools={
        <>
          <Do of="pages" id="compare" strong={compare} />
          <label className="flex min-h-9 cursor-pointer items-center text-m text-indigo underline underline-offset-4">
            {T.chooseFile}
            <input type="file" className="sr-only" aria-label={T.chooseFile} onChange={(e) => { for (const file of e.target.files ?? []) addFile.mutate(file) }} />
          </label>
        </>
      }
    >
      {all.length > 1 && (
        <div className="mb-2 flex flex-wrap gap-x-4">
          {all.slice(0, 9).map(({ capture, drive }, index) => (
            <button
              key={`${capture.sha256}-${drive.device}`} type="button" onClick={() => setAt(index)} aria-pressed={drive === shown?.drive}
              className={`touch min-h-9 px-1 text-m ${drive === shown?.drive ? 'font-bold' : 'text-indigo'}`}
            >
              <span className="text-indigo">{index + 1}</span> <span className="font-mono">{drive.device || capture.name}</span>
              {capture.weighed === drive.device && ` · ${T.weighed('✓')}`}
            </button>
          ))}
        </div>
      )}
      {(captures[0]?.asks.length ?? 0) > 0 && (
        <p className="mb-3 border-l-4 border-ochre bg-sheet px-3 py-2 text-m">{T.pickDrive} <span className="text-soft">{T.whichDrive(captures[0]!.asks.join(', '))}</span></p>
      )}
      {shown && compare && canCompare ? (
        <SideBySide captures={captures} drive={shown.drive} />
      ) : shown ? (
        <DriveSheet ticket={id} capture={shown.capture} drive={shown.drive} onBytes={showBytes} />
      ) : (
        <NothingYet of="pages" ticket={id} title={T.noPages} hint={T.noPagesHint} />
      )}
      {raw && shown && <BytesSheet ticket={id} sha256={shown.capture.sha256} path={raw.path} at={raw.at} onClose={() => setRaw(null)} />}
    </InstrumentFrame>
  )
}
