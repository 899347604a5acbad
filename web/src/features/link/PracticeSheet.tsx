import { useEffect, useState } from 'react'
import { useLocation } from 'wouter'

import { usePatients, useTakeInPractice } from '../../api/queries'
import { SHEET_KEYS } from '../../lib/keymap'
import { Commands } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

/** Simulated patients: one key takes one in, at this bay, linked and being read. */
export function PracticeSheet({ bay, onClose }: { bay: number | null; onClose: () => void }) {
  const { data: patients } = usePatients()
  const takeIn = useTakeInPractice()
  const [, navigate] = useLocation()
  const take = (machine: string) => takeIn.mutate({ machine, bay }, { onSuccess: (ticket) => navigate(`/ticket/${ticket.id}`) })
  // A key pressed before the list has come is kept until it has: who knows the key need not wait for the picture.
  const [early, setEarly] = useState<number | null>(null)
  const targets = patients ? patients.map((p) => () => take(p.id)) : Array.from(SHEET_KEYS, (_, index) => () => setEarly(index))
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
      <ul className="grid gap-1">
        {patients?.map((p, index) => (
          <li key={p.id}>
            <button type="button" onClick={() => take(p.id)} className="flex min-h-11 w-full flex-wrap items-center gap-x-4 sm:flex-nowrap rounded-lg border border-line bg-sheet px-3.5">
              <span className="w-4 text-center text-xl text-indigo">{SHEET_KEYS[index]}</span>
              <span className="min-w-0 flex-1 sm:w-64 sm:flex-none"><span className="block text-m font-semibold">{p.title}</span><span className="block text-s text-soft">{p.machine}</span></span>
              <span className="text-m text-soft max-sm:w-full">“{p.words}”</span>
            </button>
          </li>
        ))}
      </ul>
    </Sheet>
    </Commands>
  )
}
