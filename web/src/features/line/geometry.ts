import type { Gate } from '../../api/client'

/** Where gate number `index` of seven stands on a line of this width. */
export function gateX(index: number, width: number, start: number, end: number): number {
  const step = (width - start - end) / 7
  return start + step * (index + 0.35)
}

const NARROW = 560

/** Sizes of a line of this width, in pixels: where it starts and ends, half a gate, its posts, the line's height, the ridge's depth. */
export function lineShape(width: number, large: boolean) {
  const isNarrow = width < NARROW
  const start = large && !isNarrow ? 30 : 12
  const end = width - (large && !isNarrow ? 20 : 12)
  const half = isNarrow ? 9 : large ? 18 : 13
  const post = isNarrow ? 8 : large ? 12 : 8.5
  const y = large && !isNarrow ? 34 : 25
  const depth = large && !isNarrow ? 36 : 20
  return { start, end, half, post, y, depth, height: y + post + depth + (large ? 6 : 5) }
}

/** Index of the last gate proven open from the left, -1 where the first is not. */
export function provenUpTo(gates: readonly Gate[]): number {
  let last = -1
  for (const [index, gate] of gates.entries()) {
    if (gate.state !== 'open') break
    last = index
  }
  return last
}

/** The ridge under the line: a path whose depth follows the suspicion mass, its area the probability per gate. */
export function ridgePath(gates: readonly Gate[], xs: readonly number[], width: number, top: number, depth: number): string {
  const spread = (xs[1]! - xs[0]!) * 0.36
  const points: string[] = []
  for (let x = 0; x <= width; x += 4) {
    let height = 0
    for (const [index, gate] of gates.entries()) {
      const away = (x - xs[index]!) / spread
      height += gate.mass * Math.exp(-0.5 * away * away)
    }
    points.push(`${x},${(top + Math.min(1.15, height) * depth).toFixed(1)}`)
  }
  return `M0,${top}L${points.join('L')}L${width},${top}Z`
}

/** The gate that stops the machine as far as is known: the first one shut, else the likeliest suspect. */
export function leadingGate(gates: readonly Gate[]): number | null {
  const shut = gates.findIndex((g) => g.state === 'shut')
  if (shut >= 0) return shut
  const suspects = gates.map((g, index) => ({ mass: g.state === 'suspect' ? g.mass : 0, index })).sort((a, b) => b.mass - a.mass)
  return suspects[0] && suspects[0].mass > 0 ? suspects[0].index : null
}
