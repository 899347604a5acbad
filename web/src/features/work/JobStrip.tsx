import { memo, useState } from 'react'

import type { Ticket, Work } from '../../api/client'
import { useWords } from '../../api/words'
import { clock, lowerFirst, percent } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'

/** At the foot while the job runs: what was signed, which part takes its place, what becomes of the old one, how far the proof is. */
export const JobStrip = memo(function JobStrip({ ticket, work }: { ticket: Ticket; work: Work }) {
  const { words, move } = useWords()
  const signed = ticket.signed != null ? ticket.tape[ticket.signed] : undefined
  const odds = signed?.body['odds'] as { confidence?: number } | undefined
  const old = work.steps.find((s) => s.id === 'old-drive')
  const fate = old?.answers.find((a) => a.id === old.answer)?.say
  const [isOpen, setOpen] = useState(false)
  // on a phone the foot is one line: what was signed, and how far the proof is
  const folded = isOpen ? '' : 'max-md:hidden'
  const left = work.proof.filter((p) => p.state === 'open' || p.state === 'failed').length
  return (
    <footer aria-label={T.callIs} className="flex flex-wrap items-center gap-x-8 gap-y-1 border-t border-hair bg-mat px-4 py-2 lg:px-7">
      <div className="min-w-0 max-md:flex-1">
        <div className={`text-s text-soft ${folded}`}>{T.callSigned}{signed && ` · ${signed.made_by}, ${clock(signed.made_at)}`}{odds?.confidence !== undefined && `, ${percent(odds.confidence)}`}</div>
        <div className="text-l font-bold leading-6 max-md:truncate">{words.call_names[work.choice ?? ''] ?? ''}{work.fix && <span className={`text-m font-normal text-soft ${folded}`}> {lowerFirst(move(work.fix).name)}</span>}</div>
      </div>
      {work.choice === 'replace' && (
        <div className={`min-w-0 ${folded}`}>
          <div className="text-s text-soft">{T.newDrive}</div>
          <div className="truncate text-m font-semibold">{work.part ? `${work.part.name}${work.part.serial && ` · ${work.part.serial}`}` : T.newDriveNone}</div>
          {work.part && <div className="text-s text-soft">{work.part.shelf === null ? T.fromThem : T.fromShelf(work.part.left)}</div>}
        </div>
      )}
      {old && (
        <div className={`min-w-0 ${folded}`}>
          <div className="text-s text-soft">{T.oldDrive}{work.old_serial && ` · ${work.old_serial}`}</div>
          <div className="truncate text-m font-semibold">{fate ? lowerFirst(fate) : T.oldDriveOpen}</div>
        </div>
      )}
      <span className={`text-m md:hidden ${left === 0 ? 'font-semibold text-pine' : 'text-soft'}`}>{left === 0 ? T.proofStates['proven'] : T.proofLeft(left)}</span>
      <button type="button" aria-expanded={isOpen} onClick={() => setOpen(!isOpen)} className="touch min-h-9 px-1 text-m text-indigo md:hidden">{isOpen ? T.footLess : T.footMore}</button>
      <div className={`ml-auto flex flex-wrap items-center gap-x-3 ${folded}`}>
        <span className={`text-m max-md:hidden ${left === 0 ? 'font-semibold text-pine' : 'text-soft'}`}>{T.proof}: {left === 0 ? T.proofStates['proven'] : T.proofLeft(left)}</span>
        <Do of="ticket" id="handOver" strong />
        <Do of="ticket" id="papers" />
        {!ticket.closed_at && <Do of="ticket" id="call" />}
      </div>
    </footer>
  )
})
