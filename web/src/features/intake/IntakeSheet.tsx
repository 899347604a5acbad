import { useState, type FormEvent, type KeyboardEvent } from 'react'
import { useLocation } from 'wouter'

import type { TicketIn } from '../../api/client'
import { useTakeIn } from '../../api/queries'
import { useWords } from '../../api/words'
import { initials, setInitials } from '../../lib/person'
import { Choice } from '../../ui/Choice'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { factValue, T } from '../../words'

interface IntakeSheetProps {
  bays: number
  taken: readonly number[]
  onClose: () => void
}

interface FieldProps {
  label: string
  value: string
  onChange: (value: string) => void
  autoFocus?: boolean
  required?: boolean
  className?: string
}

function TextField({ label, value, onChange, autoFocus = false, required = false, className = '' }: FieldProps) {
  return (
    <label className={`mb-3 block ${className}`}>
      <span className="mb-1 block text-s font-semibold text-soft">{label}</span>
      <input
        autoFocus={autoFocus} required={required} value={value} maxLength={200} onChange={(e) => onChange(e.target.value)}
        className="w-full rounded border border-line bg-sheet px-3 py-2 text-l"
      />
    </label>
  )
}

/** Take a machine in: who, what, the story, the screen, what is on it. Everything but the first two may wait. */
export function IntakeSheet({ bays, taken, onClose }: IntakeSheetProps) {
  const { move, words } = useWords()
  const [, navigate] = useLocation()
  const takeIn = useTakeIn()
  const free = Array.from({ length: bays }, (_, i) => i + 1).filter((bay) => !taken.includes(bay))
  const [customer, setCustomer] = useState('')
  const [machine, setMachine] = useState('')
  const [said, setSaid] = useState('')
  const [by, setBy] = useState(initials())
  const [bay, setBay] = useState(String(free[0] ?? ''))
  const [answers, setAnswers] = useState<Record<string, string>>({ data: 'unknown', platform: 'pc' })
  const [seen, setSeen] = useState<Record<string, string>>({})

  const fact = (name: string) => (
    <Choice
      key={name} label={name === 'data' ? T.data : (T.factNames[name] ?? name)} value={answers[name] ?? ''}
      options={(words.facts[name] ?? []).map((value) => ({ value, label: factValue(value) }))}
      onValueChange={(value) => setAnswers({ ...answers, [name]: value })}
    />
  )
  const look = (id: string) => (
    <Choice
      label={move(id).name} value={seen[id] ?? ''}
      options={move(id).outcomes.map((outcome) => ({ value: outcome, label: move(id).say[outcome] ?? outcome }))}
      onValueChange={(value) => setSeen({ ...seen, [id]: value })}
    />
  )
  const handleSubmit = (event: FormEvent) => {
    event.preventDefault()
    setInitials(by)
    const ticket: TicketIn = {
      customer, machine, words: said, by: initials(), bay: bay ? Number(bay) : null, facts: answers,
      entries: ['story', 'screen'].flatMap((id) => (seen[id] ? [{ move: id, outcome: seen[id] }] : [])),
    }
    takeIn.mutate(ticket, { onSuccess: (made) => navigate(`/ticket/${made.id}`) })
  }
  // a radio swallows Enter; here Enter always means: put it on the bench
  const handleEnter = (event: KeyboardEvent<HTMLFormElement>) => {
    if (event.key !== 'Enter' || !(event.target instanceof HTMLElement) || event.target.role !== 'radio') return
    event.preventDefault()
    event.currentTarget.requestSubmit()
  }
  return (
    <Sheet title={T.intake} isOpen onClose={onClose} wide>
      <form onSubmit={handleSubmit} onKeyDownCapture={handleEnter}>
        <div className="flex gap-4">
          <TextField label={T.customer} value={customer} onChange={setCustomer} autoFocus required className="flex-1" />
          <TextField label={T.machine} value={machine} onChange={setMachine} required className="flex-1" />
          <TextField label={T.your} value={by} onChange={setBy} required className="w-20" />
        </div>
        {look('story')}
        {look('screen')}
        {fact('data')}
        <Choice
          label={T.bay} value={bay} onValueChange={setBay}
          options={[...free.map((n) => ({ value: String(n), label: String(n) })), { value: '', label: T.noBay }]}
        />
        <details className="mb-2">
          <summary className="mb-2 min-h-9 cursor-pointer text-m text-indigo">{T.more}</summary>
          <div className="flex gap-6">
            {fact('form')}
            {fact('platform')}
          </div>
          {fact('drive_kind')}
          {fact('installed_os')}
          <TextField label={`${T.words} (${T.optional})`} value={said} onChange={setSaid} />
        </details>
        {takeIn.error && <Note title={T.notKept}>{takeIn.error.message}</Note>}
        <button type="submit" disabled={takeIn.isPending} className="mt-3 min-h-12 rounded bg-indigo px-5 text-l font-semibold text-paper">
          {T.intakeDo} <span className="text-m font-normal">· Enter</span>
        </button>
      </form>
    </Sheet>
  )
}
