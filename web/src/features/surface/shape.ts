import type { RibbonBin } from '../../api/surfaceQueries'

const FULL = 40
const READ = 0.5
const SLOW = 0.35

/** How thick the ribbon is here, 0 to 1: as thick as the drive is fast; one slow block among many is a waist all the same. */
function thickness(bin: RibbonBin, fastest: number): number {
  if (bin.mb_s === null) return 0
  const shown = bin.slowest !== null && bin.slowest < SLOW * bin.mb_s ? Math.sqrt(bin.mb_s * Math.max(bin.slowest, 0.5)) : bin.mb_s
  return Math.max(0.06, Math.min(1, shown / fastest))
}

/** Runs of bins that the ribbon covers, as closed paths. */
export function paths(bins: readonly RibbonBin[], fastest: number): string[] {
  const found: string[] = []
  let at = 0
  while (at < bins.length) {
    if (bins[at]!.read < READ && bins[at]!.mb_s === null) { at += 1; continue }
    const start = at
    while (at < bins.length && bins[at]!.mb_s !== null && bins[at]!.bad === 0) at += 1
    if (at === start) { at += 1; continue }
    const run = bins.slice(start, at).map((bin, index) => [start + index, thickness(bin, fastest) * FULL] as const)
    const top = run.map(([x, half]) => `${x},${50 - half} ${x + 1},${50 - half}`).join(' ')
    const bottom = [...run].reverse().map(([x, half]) => `${x + 1},${50 + half} ${x},${50 + half}`).join(' ')
    found.push(`${top} ${bottom}`)
  }
  return found
}

/** Runs of bins for which something holds, as [first, end). */
export function runs(bins: readonly RibbonBin[], holds: (bin: RibbonBin) => boolean): [number, number][] {
  const found: [number, number][] = []
  bins.forEach((bin, index) => {
    if (!holds(bin)) return
    const last = found.at(-1)
    if (last && last[1] === index) last[1] = index + 1
    else found.push([index, index + 1])
  })
  return found
}
