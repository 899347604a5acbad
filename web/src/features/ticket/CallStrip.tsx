import { memo } from 'react'

import type { Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { lowerFirst, percent } from '../../lib/format'
import { KeyAction } from '../../ui/Key'
import { T } from '../../words'

const CHOICES = ['release', 'repair', 'reinstall', 'replace', 'refer'] as const

interface CallStripProps {
  ticket: Ticket
  onSign: () => void
  onHandOver: () => void
  onSheet: () => void
  onReopen: () => void
  onCameBack: () => void
}

function Verdict({ ticket }: { ticket: Ticket }) {
  const { move, words } = useWords()
  const call = ticket.call
  const signed = ticket.signed != null ? ticket.tape[ticket.signed]?.body : undefined
  const name = words.call_names[String(signed?.['signed'] ?? call.choice ?? call.leans)]
  const fix = signed ? (signed['fix'] as string | null) : call.fix ?? call.held_fix
  return (
    <div className="w-[170px] shrink-0 xl:w-[230px]">
      <div className="text-s text-soft">{ticket.signed != null ? T.callSigned : call.choice ? T.callIs : T.callLeans}</div>
      <div className="text-l font-bold leading-6">{name}</div>
      {(signed || call.choice) && fix && fix !== 'power-down' && <div className="text-s text-soft">{lowerFirst(move(fix).name)}</div>}
    </div>
  )
}

/** The five ways out as ink on a beam; the heaviest one is where the call stands. */
function Beam({ ticket }: { ticket: Ticket }) {
  const { words } = useWords()
  const call = ticket.call
  return (
    <ol className="relative flex w-[480px] shrink-0 justify-between xl:w-[560px]" aria-label={T.callIs}>
      <span aria-hidden className="absolute left-10 right-10 top-[43px] h-0.5 bg-ink" />
      {CHOICES.map((choice) => {
        const p = call.balance[choice] ?? 0
        const leads = choice === call.leans
        const size = 8 + 30 * Math.sqrt(p)
        return (
          <li key={choice} className="relative flex w-[92px] flex-col items-center">
            <span className={`text-m ${leads ? 'font-bold' : 'text-soft'}`}>{words.call_names[choice]}</span>
            <span className="flex h-11 items-center">
              <span className={`moves rounded-full ${leads ? 'bg-ink' : 'bg-line'}`} style={{ width: size, height: size }} />
            </span>
            <span className={`text-s ${leads ? 'font-bold' : 'text-soft'}`}>{percent(p)}</span>
          </li>
        )
      })}
    </ol>
  )
}

function Tips({ ticket }: { ticket: Ticket }) {
  const { move, words } = useWords()
  const tips = ticket.call.tips ?? []
  if (tips.length === 0) return <span>{T.nothingTips}</span>
  const say = tips.slice(0, 2).map((tip) => {
    const made = move(tip.move)
    return `${lowerFirst(made.name)}: ${lowerFirst(made.say[tip.outcome] ?? '')} → ${lowerFirst(words.call_names[tip.choice] ?? '')}`
  })
  return <span>{T.wouldTip} {say.join(' · ')}</span>
}

/** The call at the foot: where it leans, what holds it, what would tip it the other way. */
export const CallStrip = memo(function CallStrip({ ticket, onSign, onHandOver, onSheet, onReopen, onCameBack }: CallStripProps) {
  const { words } = useWords()
  const call = ticket.call
  const waits = call.choice && call.held_by.length > 0
  return (
    <footer aria-label={T.callIs} className="flex items-center gap-4 border-t border-hair bg-mat px-7 py-2">
      <Verdict ticket={ticket} />
      <Beam ticket={ticket} />
      <div className="min-w-0 flex-1 text-s text-soft">
        <p className="line-clamp-2">{call.choice ? call.why : `${T.madeWhen} ${lowerFirst(call.why)}`}.</p>
        {waits ? (
          <p className="line-clamp-2 font-semibold text-ink">{T.waitsFor}: {lowerFirst(words.interlocks[call.held_by[0]!] ?? '')}</p>
        ) : (
          <p className="line-clamp-2"><Tips ticket={ticket} /></p>
        )}
        {call.note && <p className="line-clamp-2 font-semibold text-ink">{call.note}.</p>}
      </div>
      <div className="flex shrink-0 flex-col items-start">
        {ticket.closed_at ? (
          <>
            <span className="px-1 text-m font-semibold">{T.handedOver}</span>
            <KeyAction hotkey="O" label={T.reopen} onPress={onReopen} />
            <KeyAction hotkey="N" label={T.cameBack} onPress={onCameBack} />
          </>
        ) : (
          <>
            {ticket.signed == null && call.choice && <KeyAction hotkey="S" label={T.sign} onPress={onSign} strong />}
            {ticket.signed != null && <KeyAction hotkey="H" label={T.handOver} onPress={onHandOver} strong />}
            <KeyAction hotkey="C" label={T.callSheet} onPress={onSheet} />
          </>
        )}
      </div>
    </footer>
  )
})
