import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'

import { api, onAsked, type Asked, type Technician } from '../../api/client'
import { keys } from '../../api/keys'
import { SHEET_KEYS } from '../../lib/keymap'
import { setInitials } from '../../lib/person'
import { Commands } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface Question extends Asked {
  answer: (isLetIn: boolean) => void
}

/** Asks for a PIN where a change needs somebody who has signed in, or a right that another one lends. What was asked waits meanwhile. */
export function SignIn() {
  const [question, setQuestion] = useState<Question | null>(null)
  const open = useRef<Promise<boolean> | null>(null)
  useEffect(() => {
    onAsked((asked) => {
      open.current ??= new Promise<boolean>((resolve) => {
        setQuestion({ ...asked, answer: (isLetIn) => { open.current = null; setQuestion(null); resolve(isLetIn) } })
      })
      return open.current
    })
    return () => onAsked(null)
  }, [])
  return question && <PinSheet key={question.needs} question={question} />
}

function PinSheet({ question }: { question: Question }) {
  const cache = useQueryClient()
  const { data: all = [] } = useQuery({ queryKey: keys.technicians(), queryFn: api.technicians, staleTime: 10_000 })
  const [who, setWho] = useState<Technician | null>(null)
  const isSignIn = question.needs === 'sign-in'
  const shown = isSignIn ? all : all.filter((t) => t.rights.includes(question.needs))
  const send = async (own: Technician, pin: string) => {
    if (!isSignIn) await api.approve(question.needs, own.initials, pin)
    else {
      const me = await api.signIn(own.initials, pin)
      if (me.initials) setInitials(me.initials)
      cache.setQueryData(keys.me(), me)
    }
    question.answer(true)
  }
  return (
    <Commands page="signIn" isAlone on={{}} targets={who ? [] : shown.map((t) => () => setWho(t))} targetKeys={SHEET_KEYS}>
      <Sheet title={isSignIn ? T.signIn : T.approveTitle} isOpen onClose={() => (who ? setWho(null) : question.answer(false))} calm>
        <p className="-mt-3 mb-4 text-m text-soft">{isSignIn ? T.signInHint : T.approveHint(T.rightNames[question.needs] ?? question.needs)}</p>
        {!who && shown.length === 0 && <p className="text-m">{T.approveNobody}</p>}
        {who ? <Pin own={who} onPin={(pin) => send(who, pin)} /> : (
          <ul aria-label={T.technicians} className="grid grid-cols-2 gap-2 sm:grid-cols-3">
            {shown.map((own, index) => (
              <li key={own.id}>
                <button type="button" onClick={() => setWho(own)} className="flex min-h-14 w-full items-center gap-3 rounded-lg border border-line bg-sheet px-3.5">
                  <span className="hotkey w-5 shrink-0 text-center text-xl text-indigo">{SHEET_KEYS[index]}</span>
                  <span className="text-l font-semibold">{own.initials}</span>
                </button>
              </li>
            ))}
          </ul>
        )}
      </Sheet>
    </Commands>
  )
}

function Pin({ own, onPin }: { own: Technician; onPin: (pin: string) => Promise<void> }) {
  const [pin, setPin] = useState('')
  const [error, setError] = useState('')
  const [isBusy, setIsBusy] = useState(false)
  const isReady = pin.length >= 4 && !isBusy
  const send = () => {
    setIsBusy(true)
    onPin(pin).catch((failed: Error) => { setError(failed.message); setPin(''); setIsBusy(false) })
  }
  return (
    <form className="flex max-w-xs flex-col gap-3" onSubmit={(event) => { event.preventDefault(); if (isReady) send() }}>
      <label className="flex flex-col gap-1 text-m font-semibold text-soft">
        {T.pinOf(own.initials)}
        <input
          type="password" inputMode="numeric" autoComplete="off" autoFocus maxLength={8} value={pin} onChange={(e) => setPin(e.target.value.replace(/\D/g, ''))}
          className="min-h-14 rounded-lg border border-line bg-sheet px-4 font-mono text-xl tracking-[0.3em] text-ink"
        />
      </label>
      {error && <Note title={T.pinWrong}>{error}</Note>}
      <button type="submit" disabled={!isReady} className="min-h-14 rounded-lg bg-indigo px-6 text-center text-l font-semibold text-paper disabled:bg-hair disabled:text-soft">{T.pinDo}</button>
    </form>
  )
}
