import { useLocation } from 'wouter'

import { usePatients, useTakeInPractice } from '../../api/queries'
import { useHotkeys, type Hotkeys } from '../../lib/hotkeys'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

const KEYS = '123456789abcdefghi'

/** Simulated patients: one key takes one in, at this bay, linked and being read. */
export function PracticeSheet({ bay, onClose }: { bay: number | null; onClose: () => void }) {
  const { data: patients = [] } = usePatients()
  const takeIn = useTakeInPractice()
  const [, navigate] = useLocation()
  const take = (machine: string) => takeIn.mutate({ machine, bay }, { onSuccess: (ticket) => navigate(`/ticket/${ticket.id}`) })
  const keys: Hotkeys = {}
  patients.forEach((p, index) => { keys[KEYS[index]!] = () => take(p.id) })
  useHotkeys(keys, !takeIn.isPending)
  return (
    <Sheet title={T.practiceTitle} isOpen onClose={onClose} wide>
      <p className="-mt-3 mb-3 text-s text-soft">{T.practiceHint}{bay !== null && ` ${T.toBay(bay)}`}</p>
      {takeIn.error && <div className="mb-3"><Note title={T.notKept}>{takeIn.error.message}</Note></div>}
      <ul className="grid gap-1">
        {patients.map((p, index) => (
          <li key={p.id}>
            <button type="button" onClick={() => take(p.id)} className="flex min-h-11 w-full items-center gap-4 rounded-lg border border-line bg-sheet px-3.5">
              <span className="w-4 text-center text-xl text-indigo">{KEYS[index]}</span>
              <span className="w-64 shrink-0"><span className="block text-m font-semibold">{p.title}</span><span className="block text-s text-soft">{p.machine}</span></span>
              <span className="text-m text-soft">“{p.words}”</span>
            </button>
          </li>
        ))}
      </ul>
    </Sheet>
  )
}
