const COLOUR: Record<string, string> = {
  open: 'var(--pine)',
  shut: 'var(--brick)',
  suspect: 'var(--ochre)',
  unproven: 'var(--line)',
}

/** A gate: two posts and an arm hinged on the left one. The arm says the state; colour only repeats it. */
export function GateMark({ state, x, y, half, post }: { state: string; x: number; y: number; half: number; post: number }) {
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
