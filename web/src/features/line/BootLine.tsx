import type { Gate } from '../../api/client'
import { gateX, provenUpTo, ridgePath } from './geometry'

interface BootLineProps {
  gates: readonly Gate[]
  width: number
  large?: boolean
  started: boolean
  label: string
}

const COLOUR: Record<string, string> = {
  open: 'var(--pine)',
  shut: 'var(--brick)',
  suspect: 'var(--ochre)',
  unproven: 'var(--line)',
}

/** A gate: two posts and an arm hinged on the left one. The arm says the state; colour only repeats it. */
function GateMark({ state, x, y, half, post }: { state: string; x: number; y: number; half: number; post: number }) {
  const colour = COLOUR[state] ?? COLOUR['unproven']
  const arm = post * 1.55
  return (
    <g stroke={colour} strokeWidth={half > 14 ? 3.5 : 2.75} fill="none" strokeLinecap="butt">
      <line x1={x - half} x2={x - half} y1={y - post} y2={y + post * 0.95} />
      <line x1={x + half} x2={x + half} y1={y - post} y2={y + post * 0.95} />
      {state === 'open' && <line x1={x - half} x2={x - half} y1={y} y2={y - post - arm} />}
      {state === 'shut' && <line x1={x - half} x2={x + half} y1={y} y2={y} strokeWidth={half > 14 ? 6 : 4.5} />}
      {state === 'suspect' && <line x1={x - half} x2={x + half * 0.55} y1={y} y2={y - half * 1.35} strokeWidth={half > 14 ? 4 : 3.2} />}
      {state === 'unproven' && <line x1={x - half} x2={x + half} y1={y} y2={y} strokeDasharray="2.5 2.5" />}
    </g>
  )
}

/** The boot line: ink up to where it is proven, gates, and the ridge of suspicion under them. */
export function BootLine({ gates, width, large = false, started, label }: BootLineProps) {
  const start = large ? 30 : 12
  const xs = gates.map((_, index) => gateX(index, width, start, large ? 20 : 14))
  const half = large ? 18 : 13
  const post = large ? 12 : 8.5
  const y = large ? 38 : 27
  const depth = large ? 42 : 22
  const proven = provenUpTo(gates)
  const next = xs[proven + 1]
  const end = width - (large ? 20 : 12)
  const inkEnd = next === undefined ? end : next - half
  const height = y + post + depth + (large ? 6 : 5)
  return (
    <svg role="img" aria-label={label} viewBox={`0 0 ${width} ${height}`} className="block h-auto w-full">
      <path d={ridgePath(gates, xs, width, y + post + 3, depth)} fill="var(--ridge)" className="moves" />
      <line x1={start} x2={end} y1={y} y2={y} stroke="var(--line)" strokeWidth="1.5" strokeDasharray="2.5 4" />
      <line x1={start} x2={inkEnd} y1={y} y2={y} stroke="var(--ink)" strokeWidth={large ? 5 : 4} className="moves" />
      <circle cx={start} cy={y} r={large ? 6.5 : 5} fill="var(--ink)" />
      {gates.map((gate, index) => (
        <GateMark key={gate.id} state={gate.state} x={xs[index]!} y={y} half={half} post={post} />
      ))}
      <rect
        x={end - 8} y={y - 6} width="16" height="12" rx="2.5"
        fill={started ? 'var(--pine)' : 'var(--paper)'} stroke={started ? 'var(--pine)' : 'var(--line)'} strokeWidth="2"
      />
    </svg>
  )
}
