import { useState, type FormEvent } from 'react'

import type { WorkStep } from '../../api/client'
import { useWords } from '../../api/words'
import { SHEET_KEYS } from '../../lib/keymap'
import { Commands } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface ToldSheetProps {
  step: WorkStep
  answer: string
  error: Error | null
  isWaiting: boolean
  onTold: (value: string | number) => void
  onClose: () => void
}

/** What is told with an answer: a text, a count, a serial, its last four characters, or what the screen shows. */
export function ToldSheet({ step, answer, error, isWaiting, onTold, onClose }: ToldSheetProps) {
  const { move } = useWords()
  const [text, setText] = useState('')
  const own = step.answers.find((a) => a.id === answer)
  const asks = own?.asks ?? 'text'
  const screens = asks === 'screen' ? move('screen').outcomes.filter((o) => o !== 'boots') : []
  const isCount = asks === 'count'
  const submit = (event?: FormEvent) => {
    event?.preventDefault()
    const said = text.trim()
    if (said) onTold(isCount ? Number(said) : said)
  }
  return (
    <Commands page="told" on={{}} targets={screens.map((outcome) => () => onTold(outcome))} targetKeys={SHEET_KEYS} isOn={!isWaiting}>
      <Sheet title={`${step.name}: ${own?.say ?? ''}`} isOpen onClose={onClose}>
        {error && <div className="mb-3"><Note title={T.notKept}>{error.message}</Note></div>}
        {step.hints.length > 0 && <div className="mb-3 border-l-4 border-pine bg-sheet px-3 py-2 text-m">{step.hints.map((hint) => <p key={hint}>{hint}</p>)}</div>}
        {asks === 'screen' ? (
          <div className="grid gap-1.5">
            {screens.map((outcome, index) => (
              <button key={outcome} type="button" data-outcome={outcome} onClick={() => onTold(outcome)} className="flex min-h-11 items-center gap-3 rounded-lg border border-line bg-sheet px-3.5 text-m">
                <span className="w-4 text-center text-xl text-indigo">{SHEET_KEYS[index]}</span>{move('screen').say[outcome]}
              </button>
            ))}
          </div>
        ) : (
          <form onSubmit={submit}>
            <label className="block">
              <span className="mb-1 block text-m">{T.toldTitles[asks]}</span>
              {asks === 'text' ? (
                <textarea
                  autoFocus required rows={3} maxLength={400} value={text} onChange={(e) => setText(e.target.value)}
                  onKeyDown={(e) => { if (e.key === 'Enter' && !e.shiftKey) { e.preventDefault(); submit() } }} className="w-full rounded border border-line bg-sheet px-3 py-2 text-l"
                />
              ) : (
                <input
                  autoFocus required value={text} onChange={(e) => setText(e.target.value)} type={isCount ? 'number' : 'text'} min={0} max={9999} step={1} autoComplete="off" autoCapitalize="characters" spellCheck={false}
                  maxLength={asks === 'last4' ? 4 : 60} className={`rounded border border-line bg-sheet px-3 py-2 text-xl ${asks === 'last4' ? 'w-32 font-mono uppercase tracking-widest' : isCount ? 'w-32' : 'w-full font-mono'}`}
                />
              )}
            </label>
            <button type="submit" disabled={!text.trim() || isWaiting} className="mt-3 min-h-12 rounded bg-indigo px-5 text-l font-semibold text-paper disabled:opacity-50">{own?.say}</button>
          </form>
        )}
      </Sheet>
    </Commands>
  )
}
