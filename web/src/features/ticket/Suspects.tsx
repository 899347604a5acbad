import { memo } from 'react'

import type { Suspect, Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { lowerFirst, percent } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { KeyWanted } from '../../ui/KeyWanted'
import { T } from '../../words'
import { describe } from './describe'
import { heldGroups } from './heldGroups'

function Spoken({ ticket, suspect }: { ticket: Ticket; suspect: Suspect }) {
  const { move, words } = useWords()
  const say = (place: number) => {
    const entry = ticket.tape[place]
    return entry ? lowerFirst(describe(entry, move, words).title) : ''
  }
  const weights = (suspect.weights ?? []).slice(0, 3)
  const forIt = weights.filter((w) => w.factor > 1)
  const against = weights.filter((w) => w.factor < 1)
  if (weights.length === 0) return <p className="text-s text-soft">{T.nothingSpoke}</p>
  const list = (of: typeof weights) => of.map((w) => say(w.entry)).join(', ')
  return (
    <p className="text-s text-soft">
      {forIt.length > 0 && <span>{T.forIt}: {list(forIt)}</span>}
      {forIt.length > 0 && against.length > 0 && ' · '}
      {against.length > 0 && <span>{T.against}: {list(against)}</span>}
    </p>
  )
}

function Bar({ name, p }: { name: string; p: number }) {
  return (
    <>
      <div className="flex items-baseline justify-between gap-2">
        <span className="text-m font-semibold">{name}</span>
        <span className="shrink-0 text-m">{percent(p)}</span>
      </div>
      <div className="my-1 h-2 rounded-full bg-hair">
        <div className="h-full rounded-full bg-ochre moves" style={{ width: `${p * 100}%` }} />
      </div>
    </>
  )
}

interface HeldProps {
  ticket: Ticket
  onHeld: () => void
}

/** Who may have done it, with what spoke for and against; and what is held back, with the reason. */
export const Suspects = memo(function Suspects({ ticket, onHeld }: HeldProps) {
  const { fault } = useWords()
  const shown = ticket.suspects.filter((s, index) => index === 0 || s.p >= 0.02).slice(0, 4)
  return (
    <section aria-label={T.suspects} className="px-4 py-3 xl:px-5 xl:py-4">
      <div className="-mt-2 flex items-center justify-between">
        <h2 className="text-s font-bold text-soft">{T.suspects}</h2>
        <Do of="ticket" id="why" />
      </div>
      <ol>
        {shown.map((suspect) => (
          <li key={suspect.fault} className="border-b border-hair py-2">
            <Bar name={fault(suspect.fault)} p={suspect.p} />
            <Spoken ticket={ticket} suspect={suspect} />
          </li>
        ))}
        {ticket.sound >= 0.02 && (
          <li className="border-b border-hair py-2"><Bar name={T.soundMachine} p={ticket.sound} /></li>
        )}
      </ol>
      <HeldNotes ticket={ticket} onHeld={onHeld} />
    </section>
  )
})

/** Held moves where they are missed: one note per interlock, those about the present danger first. */
function HeldNotes({ ticket, onHeld }: HeldProps) {
  const { move } = useWords()
  return (
    <>
      {heldGroups(ticket).map((group) => {
        const first = group[0]!
        const names = group.slice(0, 3).map((h) => lowerFirst(move(h.move).name)).join(', ')
        const more = group.length > 3 ? ` +${group.length - 3}` : ''
        return (
          <button key={first.interlock} type="button" onClick={onHeld} className="mt-3 block w-full border-l-4 border-brick bg-sheet px-3 py-2 text-m">
            <span className="block text-m font-semibold">{T.heldBack}: {names}{more}</span>
            <span className="block">{first.why}. {first.release}</span>
            {first.interlock === 'locked-volume' && <KeyWanted ticket={ticket.id} />}
          </button>
        )
      })}
    </>
  )
}
