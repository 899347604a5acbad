import type { Gate } from '../../api/client'

/** Where gate number `index` of seven stands on a line of this width. */
export function gateX(index: number, width: number, start: number, end: number): number {
  const step = (width - start - end) / 7
  return start + step * (index + 0.35)
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
