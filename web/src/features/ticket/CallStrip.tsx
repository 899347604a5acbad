import { memo } from 'react'

import type { Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { lowerFirst, percent } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'

const CHOICES = ['release', 'repair', 'reinstall', 'replace', 'refer'] as const

function Verdict({ ticket }: { ticket: Ticket }) {
  const { move, words } = useWords()
  const call = ticket.call
  const signed = ticket.signed != null ? ticket.tape[ticket.signed]?.body : undefined
  const name = words.call_names[String(signed?.['signed'] ?? call.choice ?? call.leans)]
  const fix = signed ? (signed['fix'] as string | null) : call.fix ?? call.held_fix
  return (
    <div className="min-w-0 flex-1 md:w-[150px] md:flex-none xl:w-[230px]">
      <div className="text-s text-soft">{ticket.signed != null ? T.callSigned : call.choice ? T.callIs : T.callLeans}<span className="md:hidden"> {percent(call.confidence)}</span></div>
      <div className="truncate text-l font-bold leading-6">{name}</div>
      {(signed || call.choice) && fix && fix !== 'power-down' && <div className="text-s text-soft max-md:truncate">{lowerFirst(move(fix).name)}</div>}
    </div>
  )
}

/** The five ways out as ink on a beam; the heaviest one is where the call stands. */
function Beam({ ticket }: { ticket: Ticket }) {
  const { words } = useWords()
  const call = ticket.call
  return (
    <ol className="relative hidden min-w-0 flex-1 justify-between md:flex lg:w-[400px] lg:flex-none xl:w-[560px]" aria-label={T.callIs}>
      <li aria-hidden className="absolute left-10 right-10 top-[43px] h-0.5 bg-ink" />
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

const SURELY = 0.8

/** Why nothing can be signed yet: what is sure, what is not, and the step that comes first. */
function NotYet({ ticket }: { ticket: Ticket }) {
  const { move } = useWords()
  const call = ticket.call
  const best = call.options.find((o) => o.choice === call.leans)
  const first = ticket.next[0]
  const open = call.confidence >= SURELY && best && best.p_success < SURELY ? T.notPinnedDown(percent(best.p_success)) : ''
  return <>{open} {first ? T.firstStep(lowerFirst(move(first.move).name)) : `${T.madeWhen} ${lowerFirst(call.why)}.`}</>
}

/** The call at the foot: where it leans, what holds it, what would tip it the other way. */
export const CallStrip = memo(function CallStrip({ ticket }: { ticket: Ticket }) {
  const { words } = useWords()
  const call = ticket.call
  const waits = call.choice && call.held_by.length > 0
  return (
    <footer aria-label={T.callIs} className="flex flex-wrap items-center gap-x-4 border-t border-hair bg-mat px-4 py-1.5 lg:flex-nowrap lg:px-7 lg:py-2">
      <Verdict ticket={ticket} />
      <Beam ticket={ticket} />
      <div className="order-last min-w-0 text-s text-soft max-lg:w-full lg:order-none lg:flex-1">
        <p className="line-clamp-1 lg:line-clamp-2">{call.choice ? `${call.why}.` : <NotYet ticket={ticket} />}</p>
        {waits ? (
          <p className="line-clamp-1 font-semibold text-ink lg:line-clamp-2">{T.waitsFor}: {lowerFirst(words.interlocks[call.held_by[0]!] ?? '')}</p>
        ) : (
          <p className="line-clamp-2 max-md:hidden"><Tips ticket={ticket} /></p>
        )}
        {call.note && <p className="line-clamp-2 font-semibold text-ink">{call.note}.</p>}
      </div>
      <div className="flex shrink-0 flex-row items-start gap-x-2 lg:flex-col">
        {ticket.closed_at ? <span className="px-1 text-m font-semibold max-md:hidden">{T.handedOver}</span> : null}
        <Do of="ticket" id="reopen" />
        <Do of="ticket" id="cameBack" />
        <Do of="ticket" id="sign" strong />
        <Do of="ticket" id="handOver" strong />
        {!ticket.closed_at && <Do of="ticket" id="call" />}
        {ticket.closed_at && <Do of="ticket" id="papers" />}
      </div>
    </footer>
  )
})
