import { useState } from 'react'

import { useFill, useOpens, useTargets, type Target } from '../../api/surfaceQueries'
import { bytes } from '../../lib/format'
import { SHEET_KEYS } from '../../lib/keymap'
import { Commands } from '../../ui/Commands'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface FillSheetProps {
  ticket: number
  copy: { order: number; path: string; size: number }
  onClose: () => void
}

/** A new drive is filled from a copy: which drive, said by the end of its serial number, as for an installation. */
export function FillSheet({ ticket, copy, onClose }: FillSheetProps) {
  const { data: targets } = useTargets(ticket, copy.order)
  const { data: opens = [] } = useOpens(ticket, copy.order)
  const fill = useFill(ticket, copy.order)
  const [chosen, setChosen] = useState<Target | null>(null)
  const [ends, setEnds] = useState('')
  const [holes, setHoles] = useState(false)
  const [over, setOver] = useState(false)
  const [opened, setOpened] = useState(false)
  const open = (targets ?? []).filter((t) => !t.against)
  const target = chosen ?? (open.length === 1 ? open[0]! : null)
  const send = () => target && fill.mutate({ device: target.device, serial: target.serial, ends, holes, over, opened }, { onSuccess: onClose })
  return (
    <Commands page="fill" on={{}} targets={target ? [] : open.map((t) => () => setChosen(t))} targetKeys={SHEET_KEYS.slice(0, 9)}>
      <Sheet title={T.fillTitle} isOpen onClose={onClose} wide calm>
        <dl className="-mt-2 mb-3 grid gap-x-6 gap-y-1 text-m sm:grid-cols-[auto_1fr]">
          <dt className="text-soft">{T.fillFrom}</dt><dd className="min-w-0 break-all">{T.fillCopy(copy.order)} · {bytes(copy.size)} <span className="font-mono text-s text-soft">{copy.path}</span></dd>
        </dl>
        {targets?.length === 0 && <p className="text-l text-soft">{T.fillNoDrive}</p>}
        <ul className="grid gap-1.5">
          {(targets ?? []).map((t) => {
            const key = open.indexOf(t)
            return (
              <li key={t.device}>
                <button
                  type="button" disabled={t.against !== null} data-target={t.device} onClick={() => setChosen(t)} aria-pressed={target === t}
                  className={`flex min-h-14 w-full items-center gap-4 rounded-lg border px-3.5 py-1 text-left ${target === t ? 'border-2 border-ink bg-mat' : 'border-line bg-sheet'} ${t.against ? 'opacity-70' : ''}`}
                >
                  <span className="w-4 text-center text-xl text-indigo">{!target && key >= 0 ? SHEET_KEYS[key] : ''}</span>
                  <span className="min-w-0">
                    <span className="block text-l">{t.name} · {bytes(t.size)}</span>
                    <span className="block font-mono text-s">{t.serial || '—'} <span className="font-sans text-soft">{t.device}</span></span>
                    <span className="block text-m text-soft">{t.against ?? T.fillHolds(t.holds, t.found)}</span>
                  </span>
                </button>
              </li>
            )
          })}
        </ul>
        {target && (
          <form className="mt-4" onSubmit={(event) => { event.preventDefault(); send() }}>
            <label className="block text-m font-bold" htmlFor="fill-ends">{T.fillAsk(target.name)}</label>
            <p className="text-m text-soft">{T.fillGuard}</p>
            <input
              id="fill-ends" autoFocus value={ends} maxLength={4} autoComplete="off" autoCapitalize="characters" spellCheck={false} onChange={(event) => setEnds(event.target.value)}
              className="mt-2.5 min-h-11 w-32 rounded border border-line bg-sheet px-3 font-mono text-xl uppercase"
            />
            <label className="mt-3 flex min-h-11 items-center gap-3 text-m"><input type="checkbox" checked={holes} onChange={(event) => setHoles(event.target.checked)} className="size-5 shrink-0" />{T.fillHoles}</label>
            {target.holds !== 0 && <label className="flex min-h-11 items-center gap-3 text-m"><input type="checkbox" checked={over} onChange={(event) => setOver(event.target.checked)} className="size-5 shrink-0" />{T.fillOver}</label>}
            {opens.length > 0 && <label className="flex min-h-11 items-center gap-3 text-m"><input type="checkbox" checked={opened} onChange={(event) => setOpened(event.target.checked)} className="size-5 shrink-0" />{T.fillOpened(opens)}</label>}
            {fill.error && <p role="alert" className="mt-2 text-m text-brick">{fill.error.message}</p>}
            <button type="submit" disabled={ends.trim().length < 4 || fill.isPending} className="mt-3 min-h-12 rounded-lg bg-ink px-5 text-l text-paper disabled:opacity-50">{T.fillDo}</button>
          </form>
        )}
      </Sheet>
    </Commands>
  )
}
