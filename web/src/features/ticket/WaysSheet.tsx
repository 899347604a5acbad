import { useQuery } from '@tanstack/react-query'
import { type ReactNode, useRef, useState } from 'react'

import { call, type EntryBody, type Ticket } from '../../api/client'
import type { components } from '../../api/schema'
import { useWords } from '../../api/words'
import { minutes, percent } from '../../lib/format'
import { SHEET_KEYS, type Handlers } from '../../lib/keymap'
import { Commands, Do } from '../../ui/Commands'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'
import { CodePrinted } from './CodePrinted'
import { keys } from '../../api/keys'

type Way = components['schemas']['HowOut']

interface WaysSheetProps {
  ticket: Ticket
  moveId: string
  onClose: () => void
  onOpen: (instrument: string) => void
  /** An answer of the move: the sheet is done with. */
  onAnswer: (entry: EntryBody) => void
  /** What was read without being an answer: it is noted, and one goes on. */
  onNote: (entry: EntryBody) => void
}

/** How a move is done: the ways side by side with what they come to, then one of them step by step, and what its screen says as answers to tap. */
export function WaysSheet({ ticket, moveId, onClose, onOpen, onAnswer, onNote }: WaysSheetProps) {
  const { move } = useWords()
  const [chosen, setChosen] = useState<string | null>(null)
  const [code, setCode] = useState('')
  const field = useRef<HTMLInputElement>(null)
  const [noted, setNoted] = useState<readonly string[]>([])
  const { data: ways } = useQuery({ queryKey: keys.ways(ticket.id, moveId, ticket.tape.length), queryFn: ({ signal }) => call<Way[]>(`/tickets/${ticket.id}/ways?move=${moveId}`, { signal }), placeholderData: (before) => before })
  const way = ways?.find((w) => w.id === chosen) ?? (ways?.length === 1 ? ways[0]! : null)
  const name = move(moveId, ticket.facts['platform']).name
  const read = (says: string, outcome: string | null) => {
    const printed = code.trim() ? { code: code.trim() } : {}
    if (outcome) return onAnswer({ move: moveId, outcome, note: says, ...printed })
    setNoted([...noted, says])
    onNote({ note: `${name}: ${says}`, ...printed })
  }
  const on: Handlers<'ways'> = {
    ...(way && ways && ways.length > 1 && { backToList: () => setChosen(null) }),
    ...(way?.prints_code && { code: () => field.current?.focus() }),
    ...(way?.opens && { open: () => onOpen(way.opens!) }),
  }
  const targets = way ? way.reads.map((r) => () => read(r.says, r.outcome)) : (ways ?? []).map((w) => () => setChosen(w.id))
  return (
    <Commands page="ways" on={on} targets={targets} targetKeys={SHEET_KEYS.slice(0, 9)}>
      <Sheet title={T.waysTitle(name)} isOpen onClose={onClose} wide calm>
        {!ways ? <p className="text-l text-soft">{T.loading}</p> : way ? <Chosen way={way} noted={noted} answers={move(moveId).say} onRead={read}>{way.prints_code && <CodePrinted ticketId={ticket.id} value={code} field={field} onChange={setCode} />}</Chosen> : (
          <>
            <p className="-mt-3 mb-3 text-s text-soft">{ways.length > 0 ? T.waysHint : T.waysNone}</p>
            <ol className="grid gap-1.5">
              {ways.map((w, index) => (
                <li key={w.id}>
                  <button type="button" data-way={w.id} onClick={() => setChosen(w.id)} className="flex min-h-14 w-full items-center gap-4 rounded-lg border border-line bg-sheet px-3.5 py-1 text-left">
                    <span className="w-4 text-center text-xl text-indigo">{SHEET_KEYS[index]}</span>
                    <span className="min-w-0"><span className="block text-l">{w.name}</span><span className="block text-s text-soft"><Effort way={w} /></span></span>
                  </button>
                </li>
              ))}
            </ol>
          </>
        )}
      </Sheet>
    </Commands>
  )
}

const Effort = ({ way }: { way: Way }) => (
  <>{[`${minutes(way.minutes)} ${T.handsOn}`, way.unattended >= 3 && `${minutes(way.unattended)} ${T.onItsOwn}`, T.waysWorks(percent(way.works))].filter(Boolean).join(' · ')}</>
)

function Chosen({ way, noted, answers, onRead, children }: { children?: ReactNode; way: Way; noted: readonly string[]; answers: Record<string, string>; onRead: (says: string, outcome: string | null) => void }) {
  return (
    <div data-way-steps={way.id}>
      <div className="-mt-3 mb-2 flex flex-wrap gap-x-5"><Do of="ways" id="backToList" /><Do of="ways" id="open" strong /></div>
      <h3 className="text-l font-bold">{way.name}</h3>
      <p className="text-s text-soft"><Effort way={way} /></p>
      <ol className="mt-2 list-decimal space-y-1.5 pl-6 text-m">{way.steps.map((step) => <li key={step}>{step}</li>)}</ol>
      {way.reads.length > 0 && (
        <>
          <h3 className="mt-4 text-l font-bold">{T.waysReads}</h3>
          <p className="mb-2 text-s text-soft">{T.waysReadsHint}</p>
          {children}
          <ul className="grid gap-1.5">
            {way.reads.map((read, index) => (
              <li key={read.says}>
                <button type="button" data-read={read.outcome ?? 'note'} onClick={() => onRead(read.says, read.outcome)} className="flex min-h-14 w-full items-center gap-4 rounded-lg border border-line bg-sheet px-3.5 py-1 text-left">
                  <span className="w-4 text-center text-xl text-indigo">{SHEET_KEYS[index]}</span>
                  <span className="min-w-0">
                    <span className="block text-m font-semibold">{read.says}{read.outcome && <span className="font-normal text-soft"> → {answers[read.outcome]}</span>}{noted.includes(read.says) && <span className="font-normal text-pine"> · {T.waysNoted}</span>}</span>
                    <span className="block text-s text-soft">{read.means}</span>
                  </span>
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  )
}
