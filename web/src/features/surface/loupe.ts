import type { Place } from '../../api/surfaceQueries'

const LEAST = 32

/** The span of sectors under a loupe around this sector, kept on the disk. */
export function loupeSpan(center: number, wide: number, sectors: number): [number, number] {
  const width = Math.min(Math.max(wide, LEAST), sectors)
  const first = Math.max(0, Math.min(Math.round(center - width / 2), sectors - width))
  return [first, Math.round(first + width)]
}

/** Where the loupe goes next: to the bad place after or before it, or half its width on where there is none. */
export function nextCenter(places: readonly Place[], center: number | null, by: number, width: number, sectors: number): number {
  if (places.length === 0) return Math.max(0, Math.min(sectors - 1, (center ?? (by > 0 ? 0 : sectors)) + by * width * sectors * 0.5))
  const found = by > 0 ? places.findIndex((p) => p.first > (center ?? -1)) : places.findLastIndex((p) => p.last < (center ?? sectors))
  const place = places[found === -1 ? (by > 0 ? places.length - 1 : 0) : found]!
  return (place.first + place.last) / 2
}
