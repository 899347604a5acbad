import { useState, type FormEvent, type KeyboardEvent } from 'react'
import { useLocation } from 'wouter'

import type { KnownEntry } from '../../api/client'
import { useKnown, useTakeIn } from '../../api/queries'
import { useWords } from '../../api/words'
import { requestKey } from '../../lib/format'
import { initials, setInitials } from '../../lib/person'
import { Choice } from '../../ui/Choice'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { factValue, T } from '../../words'
import { emptyDraft, ticketOf, withCustomer, withMachine, type Draft } from './draft'
import { KnownField, TextField } from './fields'

interface IntakeSheetProps {
  free: readonly number[]
  onClose: () => void
}

/** Take a machine in: who, what, the story, the screen, what is on it. Everything but the first two may wait. */
export function IntakeSheet({ free, onClose }: IntakeSheetProps) {
  const { move, words } = useWords()
  const [, navigate] = useLocation()
  const takeIn = useTakeIn()
  const [key] = useState(requestKey)  // sent twice, it is one ticket
  const [draft, setDraft] = useState<Draft>(() => emptyDraft(initials(), free[0]))
  const { data: known } = useKnown(draft.customer, draft.machine)
  const set = (part: Partial<Draft>) => setDraft({ ...draft, ...part })

  const fact = (name: string) => (
    <Choice
      key={name} label={name === 'data' ? T.data : (T.factNames[name] ?? name)} value={draft.facts[name] ?? ''}
      options={(words.facts[name] ?? []).map((value) => ({ value, label: factValue(value) }))}
      onValueChange={(value) => set({ facts: { ...draft.facts, [name]: value } })}
    />
  )
  const look = (id: string) => (
    <Choice
      label={move(id).name} value={draft.seen[id] ?? ''}
      options={move(id).outcomes.map((outcome) => ({ value: outcome, label: move(id).say[outcome] ?? outcome }))}
      onValueChange={(value) => set({ seen: { ...draft.seen, [id]: value } })}
    />
  )
  const handleSubmit = (event: FormEvent) => {
    event.preventDefault()
    setInitials(draft.by)
    takeIn.mutate({ ...ticketOf(draft, initials()), key }, { onSuccess: (made) => navigate(`/ticket/${made.id}`) })
  }
  // a radio swallows Enter; here Enter always means: put it on the bench
  const handleEnter = (event: KeyboardEvent<HTMLFormElement>) => {
    if (event.key !== 'Enter' || !(event.target instanceof HTMLElement) || event.target.role !== 'radio') return
    event.preventDefault()
    event.currentTarget.requestSubmit()
  }
  const others = (names: readonly KnownEntry[] | undefined, typed: string) => (names ?? []).filter((k) => k.name.toLowerCase() !== typed.trim().toLowerCase())
  return (
    <Sheet title={T.intake} isOpen onClose={onClose} wide>
      <form onSubmit={handleSubmit} onKeyDownCapture={handleEnter}>
        <div className="flex flex-wrap gap-x-4">
          <KnownField
            label={T.customer} value={draft.customer} known={others(known?.customers, draft.customer)} onChange={(customer) => set({ customer })}
            onTake={(entry) => setDraft(withCustomer(draft, entry))} autoFocus
          />
          <KnownField
            label={T.machine} value={draft.machine} known={others(known?.machines, draft.machine)} onChange={(machine) => set({ machine })}
            onTake={(entry) => setDraft(withMachine(draft, entry))}
          />
          <TextField label={T.your} value={draft.by} onChange={(by) => set({ by })} required className="w-20" />
        </div>
        {look('story')}
        {look('screen')}
        {fact('data')}
        <Choice
          label={T.bay} value={draft.bay} onValueChange={(bay) => set({ bay })}
          options={[...free.map((n) => ({ value: String(n), label: String(n) })), { value: '', label: T.noBay }]}
        />
        <details className="mb-2">
          <summary className="mb-2 min-h-9 cursor-pointer text-m text-indigo">{T.more}</summary>
          <div className="flex flex-wrap gap-x-6">
            {fact('form')}
            {fact('platform')}
          </div>
          {fact('drive_kind')}
          {fact('installed_os')}
          <TextField label={`${T.words} (${T.optional})`} value={draft.words} onChange={(said) => set({ words: said })} />
        </details>
        {takeIn.error && <Note title={T.notKept}>{takeIn.error.message}</Note>}
        <button type="submit" disabled={takeIn.isPending} className="mt-3 min-h-12 rounded bg-indigo px-5 text-l font-semibold text-paper">
          {T.intakeDo} <span className="text-m font-normal">· {T.enter}</span>
        </button>
      </form>
    </Sheet>
  )
}
