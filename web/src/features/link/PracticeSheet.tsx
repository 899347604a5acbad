import { useEffect, useState } from 'react'
import { useLocation } from 'wouter'

import { usePatients, useTakeInPractice } from '../../api/queries'
import { SHEET_KEYS } from '../../lib/keymap'
import { Commands } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

const LEVELS = ['first', 'usual', 'hard'] as const

/** Simulated patients: one key takes one in, at this bay, linked and being read. */
export function PracticeSheet({ bay, onClose }: { bay: number | null; onClose: () => void }) {
  const { data: patients } = usePatients()
  const takeIn = useTakeInPractice()
  const [, navigate] = useLocation()
  const take = (machine: string) => takeIn.mutate({ machine, bay }, { onSuccess: (ticket) => navigate(`/ticket/${ticket.id}`) })
  // A key pressed before the list has come is kept until it has: who knows the key need not wait for the picture.
  const [early, setEarly] = useState<number | null>(null)
  const sorted = LEVELS.flatMap((level) => (patients ?? []).filter((p) => p.level === level))
  const targets = patients ? sorted.map((p) => () => take(p.id)) : Array.from(SHEET_KEYS, (_, index) => () => setEarly(index))
  // after every render, for what a key does is made anew at each; a key that was kept is used once
  // eslint-disable-next-line react-hooks/exhaustive-deps
  useEffect(() => {
    if (patients === undefined || early === null) return
    setEarly(null)
    targets[early]?.()
  })
  return (
    <Commands page="practice" on={{}} targets={targets} targetKeys={SHEET_KEYS} isOn={!takeIn.isPending}>
    <Sheet title={T.practiceTitle} isOpen onClose={onClose} wide>
      <p className="-mt-3 mb-3 text-s text-soft">{T.practiceHint}{bay !== null && ` ${T.toBay(bay)}`}</p>
      {takeIn.error && <div className="mb-3"><Note title={T.notKept}>{takeIn.error.message}</Note></div>}
      {LEVELS.map((level) => (
        <section key={level} aria-label={T.practiceLevels[level]} className="mb-3">
          <h3 className="mb-1 text-s font-bold text-soft">{T.practiceLevels[level]}</h3>
          <ul className="grid gap-1">
            {sorted.filter((p) => p.level === level).map((p) => (
              <li key={p.id}>
                <button type="button" data-patient={p.id} onClick={() => take(p.id)} className="flex min-h-11 w-full flex-wrap items-center gap-x-4 rounded-lg border border-line bg-sheet px-3.5 text-left sm:flex-nowrap">
                  <span className="w-6 text-center text-xl text-indigo">{SHEET_KEYS[sorted.indexOf(p)]}</span>
                  <span className="min-w-0 flex-1 text-m">“{p.words}”</span>
                  <span className="text-s text-soft max-sm:w-full">{p.machine}</span>
                </button>
              </li>
            ))}
          </ul>
        </section>
      ))}
    </Sheet>
    </Commands>
  )
}
