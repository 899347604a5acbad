import { memo, useRef } from 'react'

import type { Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { keyOf } from '../../lib/keymap'
import { useWidth } from '../../lib/width'
import { KeyAction } from '../../ui/Key'
import { factValue, T } from '../../words'
import { BootLine } from '../line/BootLine'
import { gateX, lineShape } from '../line/geometry'
import { gateWord, machineLine } from './describe'

const HEAD_WIDTH = 1240
/** Below this width the names of the gates stand in two rows. */
const ONE_ROW = 640

interface TicketHeadProps {
  ticket: Ticket
  onGate: (gate: string) => void
  onBench: () => void
  onFacts: () => void
  onHelp: () => void
  /** On a phone one line, with the number: the tool below wants the room. */
  isTool?: boolean
}

/** What needs no "Data:" before it on a phone. */
const SELF_TELLING = new Set(['irreplaceable', 'backed-up'])
const DATA_TONE: Record<string, string> = { irreplaceable: 'text-brick', unknown: 'text-ochre-ink', 'backed-up': 'text-pine', none: 'text-soft' }

/** The names of the gates over their places; each is the way to its moves and its instrument. */
function GateNames({ ticket, onGate }: { ticket: Ticket; onGate: (gate: string) => void }) {
  const { words } = useWords()
  const box = useRef<HTMLElement>(null)
  const width = useWidth(box, HEAD_WIDTH)
  const { start, end } = lineShape(width, true)
  const isOneRow = width >= ONE_ROW
  return (
    <nav ref={box} aria-label={T.gates} className={`relative ${isOneRow ? 'h-7' : 'h-14'}`}>
      {ticket.gates.map((gate, index) => {
        const isNamed = gate.state === 'shut' || gate.state === 'suspect'
        return (
          <button
            key={gate.id} type="button" title={gate.why} onClick={() => onGate(gate.id)}
            aria-label={`${words.gates[index]?.name}: ${gateWord(gate.state)}. ${gate.why}`}
            className={`absolute min-h-7 -translate-x-1/2 whitespace-nowrap px-1 ${width >= 1000 ? 'text-l' : isOneRow ? 'text-m' : 'text-s'} ${isNamed ? 'font-bold' : 'text-soft'}`}
            style={{ left: Math.max(30, Math.min(width - 34, gateX(index, width, start, width - end))), top: isOneRow || index % 2 === 0 ? 0 : 28 }}
          >
            {words.gates[index]?.name}
          </button>
        )
      })}
    </nav>
  )
}

/** The head of a ticket: which machine, what is at stake, and the boot line as the way around it. */
export const TicketHead = memo(function TicketHead({ ticket, onGate, onBench, onFacts, onHelp, isTool = false }: TicketHeadProps) {
  const { words } = useWords()
  const data = String(ticket.facts['data'] ?? 'unknown')
  const started = ticket.gates.every((g) => g.state === 'open')
  return (
    <header className="border-b border-hair px-3 pt-2 lg:px-5 lg:pt-3">
      {isTool && (
        <div className="flex min-h-11 items-center gap-x-3 px-1 pb-1 md:hidden">
          <span className="text-l font-bold text-indigo">{ticket.bay ?? '·'}</span>
          <span className="min-w-0 flex-1 truncate text-m font-bold">{ticket.machine}</span>
          <span className="shrink-0 font-mono text-s text-soft">{ticket.number}</span>
          <button type="button" onClick={onBench} className="touch min-h-11 shrink-0 text-m text-indigo">{T.bench}</button>
          <button type="button" onClick={onHelp} className="touch min-h-11 shrink-0 text-m text-indigo">{T.help}</button>
        </div>
      )}
      <div className={isTool ? 'max-md:hidden' : ''}>
      <div className="flex flex-wrap items-baseline gap-x-4 px-2">
        <span className="text-xl font-bold leading-8 text-indigo md:text-xxl md:leading-9">{ticket.bay ?? '·'}</span>
        <h1 className="min-w-0 max-w-full shrink-0 truncate text-l font-bold max-md:w-[calc(100%-40px)] md:text-xl">{ticket.machine}</h1>
        <span className="order-last w-full min-w-0 truncate text-s text-soft lg:order-none lg:w-auto lg:flex-1 lg:text-m">
          <span className="font-mono text-s lg:hidden">{ticket.number} · </span>{[ticket.customer, machineLine(ticket)].filter(Boolean).join(' · ')}<span className="max-lg:hidden"> · <span className="font-mono text-s">{ticket.number}</span></span>
        </span>
        <span className="ml-auto flex min-w-0 items-baseline justify-end gap-x-3 max-md:order-last max-md:w-full max-md:justify-between lg:shrink-0 lg:gap-x-4">
          <button type="button" onClick={onFacts} className="touch min-h-9 text-m max-md:text-s">
            <span className={SELF_TELLING.has(data) ? 'max-md:sr-only' : ''}>{T.factNames['data']}: </span><strong className={DATA_TONE[data] ?? ''}>{factValue(data)}</strong>
          </button>
          <span className="max-md:hidden"><KeyAction hotkey={keyOf('ticket', 'facts')} label={T.facts} onPress={onFacts} /></span>
          <KeyAction hotkey={keyOf('ticket', 'bench')} label={T.bench} onPress={onBench} />
          <KeyAction hotkey={keyOf('ticket', 'help')} label={T.help} onPress={onHelp} />
        </span>
      </div>
      <GateNames ticket={ticket} onGate={onGate} />
      <BootLine gates={ticket.gates} width={HEAD_WIDTH} large started={started} label={ticket.gates.map((g, i) => `${words.gates[i]?.name} ${gateWord(g.state)}`).join(', ')} />
      </div>
    </header>
  )
})
