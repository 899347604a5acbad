import { useRef } from 'react'

import type { Gate } from '../../api/client'
import { useWidth } from '../../lib/width'
import { GateMark } from '../../ui/GateMark'
import { gateX, lineShape, provenUpTo, ridgePath } from './geometry'

interface BootLineProps {
  gates: readonly Gate[]
  /** Width before it is measured; the line is drawn as wide as there is room. */
  width: number
  large?: boolean
  started: boolean
  label: string
}

/** The boot line: ink up to where it is proven, gates, and the ridge of suspicion under them. */
export function BootLine({ gates, width: initial, large = false, started, label }: BootLineProps) {
  const box = useRef<HTMLSpanElement>(null)
  const width = useWidth(box, initial)
  const { start, end, half, post, y, depth, height } = lineShape(width, large)
  const xs = gates.map((_, index) => gateX(index, width, start, width - end))
  const proven = provenUpTo(gates)
  const next = xs[proven + 1]
  const inkEnd = next === undefined ? end : next - half
  return (
    <span ref={box} className="block w-full min-w-0">
      <svg role="img" aria-label={label} width={width} height={height} className="block max-w-full">
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
    </span>
  )
}
