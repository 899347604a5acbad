import { memo } from 'react'

import type { Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { KeyAction } from '../../ui/Key'
import { factValue, T } from '../../words'
import { BootLine } from '../line/BootLine'
import { gateX } from '../line/geometry'

export const HEAD_WIDTH = 1240

interface TicketHeadProps {
  ticket: Ticket
  onGate: (gate: string) => void
  onBench: () => void
  onFacts: () => void
}

const DATA_TONE: Record<string, string> = { irreplaceable: 'text-brick', unknown: 'text-ochre', 'backed-up': 'text-pine', none: 'text-soft' }

function machineLine(ticket: Ticket): string {
  const facts = ticket.facts
  const drive = facts['drive_kind'] ? factValue(facts['drive_kind']) : null
  const year = facts['drive_year'] ? `from ${facts['drive_year']}` : ''
  const parts = [facts['form'] ? factValue(facts['form']) : null, facts['installed_os'] ? factValue(facts['installed_os']) : null, drive && `${drive} ${year}`.trim()]
  return parts.filter(Boolean).join(' · ')
}

/** The head of a ticket: which machine, what is at stake, and the boot line as the way around it. */
export const TicketHead = memo(function TicketHead({ ticket, onGate, onBench, onFacts }: TicketHeadProps) {
  const { words } = useWords()
  const data = String(ticket.facts['data'] ?? 'unknown')
  const started = ticket.gates.every((g) => g.state === 'open')
  const word: Record<string, string> = { open: T.gateOpen, shut: T.gateShut, suspect: T.gateSuspect, unproven: T.gateUnproven }
  return (
    <header className="border-b border-hair px-5 pt-3">
      <div className="flex items-baseline gap-4 px-2">
        <span className="text-xxl font-bold leading-9 text-indigo">{ticket.bay ?? '·'}</span>
        <h1 className="shrink-0 text-xl font-bold">{ticket.machine}</h1>
        <span className="min-w-0 truncate text-m text-soft">
          {[ticket.customer, machineLine(ticket)].filter(Boolean).join(' · ')} · <span className="font-mono text-s">{ticket.number}</span>
        </span>
        <span className="ml-auto flex shrink-0 items-baseline gap-4">
          <button type="button" onClick={onFacts} className="min-h-9 text-m">
            {T.factNames['data']}: <strong className={DATA_TONE[data] ?? ''}>{factValue(data)}</strong>
          </button>
          <KeyAction hotkey="F" label={T.facts} onPress={onFacts} />
          <KeyAction hotkey="B" label={T.bench} onPress={onBench} />
        </span>
      </div>
      <nav aria-label="gates" className="relative h-7">
        {ticket.gates.map((gate, index) => (
          <button
            key={gate.id} type="button" title={gate.why} onClick={() => onGate(gate.id)}
            aria-label={`${words.gates[index]?.name}: ${word[gate.state]}. ${gate.why}`}
            className={`absolute min-h-8 -translate-x-1/2 px-2 text-l ${gate.state === 'shut' || gate.state === 'suspect' ? 'font-bold' : 'text-soft'}`}
            style={{ left: `${(gateX(index, HEAD_WIDTH, 30, 20) / HEAD_WIDTH) * 100}%` }}
          >
            {words.gates[index]?.name}
          </button>
        ))}
      </nav>
      <div>
        <BootLine gates={ticket.gates} width={HEAD_WIDTH} large started={started} label={ticket.gates.map((g, i) => `${words.gates[i]?.name} ${word[g.state]}`).join(', ')} />
      </div>
    </header>
  )
})
