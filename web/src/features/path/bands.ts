import type { Path, PathSpan } from '../../api/pathQueries'

/** Sectors at the beginning and at the end of a disk that are drawn one by one. */
export const CELLS = 64
/** Shares of the picture's width: the beginning under a loupe, the whole disk, the end under a loupe. */
const HEAD = 0.27
const TAIL = 0.27
const GAP = 0.02

/** Where the whole disk is drawn, as shares of the width. */
export const WHOLE: readonly [number, number] = [HEAD + GAP, 1 - TAIL - GAP]
export const HEAD_END = HEAD
export const TAIL_START = 1 - TAIL

type Ruled = Pick<Path, 'sectors'>

/** Where a sector stands in the picture, 0 to 1: in the first or last cells where it is one of those, else on the whole disk. Each scale is honest in itself. */
export function place(disk: Ruled, lba: number): number {
  if (lba < CELLS) return ((lba + 0.5) / CELLS) * HEAD
  if (disk.sectors > 2 * CELLS && lba >= disk.sectors - CELLS) return TAIL_START + ((lba - (disk.sectors - CELLS) + 0.5) / CELLS) * TAIL
  return onWhole(disk, lba)
}

/** Where it stands on the whole disk. */
export const onWhole = (disk: Ruled, lba: number): number => WHOLE[0] + (lba / Math.max(disk.sectors, 1)) * (WHOLE[1] - WHOLE[0])

/** A run of sectors as a piece of one band: from, to. */
export function stretch(disk: Ruled, span: PathSpan): [number, number] {
  const from = place(disk, span.first)
  const to = place(disk, span.last)
  return to - from > 0.5 ? [from, from] : [from, to]
}
