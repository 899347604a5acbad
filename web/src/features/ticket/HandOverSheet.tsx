import { useEffect, useRef, useState } from 'react'

import type { Ticket } from '../../api/client'
import { useGuesses, useSettings } from '../../api/queries'
import { useWork } from '../../api/workQueries'
import { useWords } from '../../api/words'
import { lowerFirst, percent } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'
import { ProofList } from '../work'
import { marking } from './handover'
import { SettingsLeft } from './SettingsLeft'

interface HandOverSheetProps {
  ticket: Ticket
  onClose: () => void
  onProven: (proven: readonly string[] | null, waive: string | null) => void
}

/** Before the machine goes back: what it turned out to have. The likeliest answers stand ready under digits. */
export function HandOverSheet({ ticket, onClose, onProven }: HandOverSheetProps) {
  const { data: guesses = [] } = useGuesses(ticket.id)
  const { fault, words } = useWords()
  const { data: settings } = useSettings(ticket)
  const isOnTrial = ticket.trials.some((t) => t.standing === 'open' || t.standing === 'pending')
  const { data: work } = useWork(ticket, ticket.job != null)
  const left = ticket.unproven.length
  const [why, setWhy] = useState('')
  const whyField = useRef<HTMLInputElement>(null)
  const give = (proven: readonly string[] | null) => {
    if (left > 0 && !why.trim()) return whyField.current?.focus()
    onProven(proven, left > 0 ? why.trim() : null)
  }
  const [marked, setMarked] = useState<readonly string[]>([])
  const first = useRef<HTMLButtonElement>(null)
  // the answers come a moment after the sheet: Enter must mean the likeliest one, never the way out without an answer
  useEffect(() => {
    if (document.activeElement !== whyField.current) first.current?.focus()
  }, [guesses.length])
  const shown = guesses.filter((g, index) => index === 0 || g.p >= 0.01)
  const name = (faults: readonly string[]) => faults.map((f, i) => (i ? lowerFirst(fault(f)) : fault(f))).join(' + ') || T.nothingWrong
  const toggle = (id: string) => setMarked(marking(marked, id))
  const on: Handlers<'handOver'> = { without: () => give(null), ...(marked.length > 0 && { marked: () => give(marked) }) }
  return (
    <Commands page="handOver" on={on} targets={shown.slice(0, 9).map((guess) => () => give(guess.faults))}>
    <Sheet title={T.handOverTitle} isOpen onClose={onClose} wide calm>
      <p className="-mt-3 mb-3 text-s text-soft">{T.handOverHint}</p>
      {(left > 0 || (work && work.proof.length > 0)) && (
        <div className="mb-4">
          {work && work.proof.length > 0 ? <ProofList proof={work.proof} /> : <ul className="text-m">{ticket.unproven.map((line) => <li key={line} className="border-b border-hair py-1">{line}</li>)}</ul>}
          {left === 0 ? <p className="mt-2 text-m font-semibold text-pine">{T.proofAll}</p> : (
            <label className="mt-2 block border-l-4 border-ochre bg-sheet px-3 py-2 text-m">
              <span className="font-semibold">{T.proofLeft(left)}.</span> {T.proofWhy}
              <input ref={whyField} required maxLength={400} value={why} onChange={(e) => setWhy(e.target.value)} onKeyDown={(e) => { if (e.key === 'Enter' && why.trim()) { e.preventDefault(); first.current?.focus() } }} className="mt-1 w-full rounded border border-line bg-paper px-3 py-2 text-l" />
            </label>
          )}
        </div>
      )}
      {isOnTrial && <div className="mb-3"><Note title={T.leftOpen} tone="ochre" /></div>}
      <div className="grid gap-2">
        {shown.map((guess, index) => (
          <button
            key={guess.faults.join()} ref={index === 0 ? first : null} type="button" onClick={() => give(guess.faults)}
            className="flex min-h-14 items-center gap-3 rounded-lg border border-line bg-sheet px-3.5 text-l"
          >
            <span className="w-5 text-center text-xl text-indigo">{index + 1}</span>
            <span className="min-w-0 flex-1">{name(guess.faults)}</span>
            <span className="text-m text-soft">{percent(guess.p)}</span>
          </button>
        ))}
        <button type="button" onClick={() => give(null)} className="flex min-h-12 items-center gap-3 rounded-lg border border-hair px-3.5 text-m text-soft">
          <span className="w-5 text-center text-xl text-indigo">0</span>{T.cannotSay}
        </button>
      </div>
      <h3 className="mb-2 mt-5 text-s font-bold text-soft">{T.markYourself}</h3>
      <div className="flex flex-wrap gap-1.5">
        {words.faults.map((f) => (
          <button
            key={f.id} type="button" aria-pressed={marked.includes(f.id)} onClick={() => toggle(f.id)}
            className="touch min-h-9 rounded border border-line bg-sheet px-2.5 text-s aria-pressed:border-indigo aria-pressed:bg-indigo aria-pressed:text-paper"
          >
            {f.name}
          </button>
        ))}
      </div>
      {settings && settings.left.length > 0 && <SettingsLeft left={settings.left} />}
      {marked.length > 0 && <p className="mt-3"><Do of="handOver" id="marked" label={`${T.handOverMarked}: ${name(marked)}`} strong /></p>}
    </Sheet>
    </Commands>
  )
}
