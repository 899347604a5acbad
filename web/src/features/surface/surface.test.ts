import { describe, expect, it } from 'vitest'

import type { Place, RibbonBin } from '../../api/surfaceQueries'
import { loupeSpan, nextCenter } from './loupe'
import { paths, runs } from './shape'

const place = (first: number, last = first) => ({ first, last }) as Place
const bin = (mb_s: number | null, bad = 0, slowest: number | null = mb_s) => ({ mb_s, bad, slowest, read: mb_s === null ? 0 : 1 }) as RibbonBin

describe('the loupe stays on the disk', () => {
  it.each([
    [500, 100, 1000, [450, 550]], [10, 100, 1000, [0, 100]], [990, 100, 1000, [900, 1000]], [500, 1, 1000, [484, 516]], [5, 5000, 20, [0, 20]],
  ] as const)('around %i, %i wide, of %i', (center, wide, sectors, span) => expect(loupeSpan(center, wide, sectors)).toEqual(span))
})

describe('the next bad place', () => {
  const places = [place(100), place(300, 310), place(800)]
  it.each([
    ['the first, from nowhere', null, 1, 100], ['the one after', 100, 1, 305], ['the one before', 800, -1, 305], ['the last again at the end', 900, 1, 800], ['the first again at the start', 50, -1, 100],
  ] as const)('%s', (_, center, by, wanted) => expect(nextCenter(places, center, by, 0.1, 1000)).toBe(wanted))
  it('is half a loupe on where there is none', () => expect(nextCenter([], 500, 1, 0.2, 1000)).toBe(600))
})

describe('the ribbon', () => {
  it('is torn where something is bad, and is not there where nothing was read', () => {
    expect(paths([bin(100), bin(100, 1), bin(100), bin(null), bin(100)], 100)).toHaveLength(3)
    expect(paths([bin(null), bin(null)], 100)).toEqual([])
  })
  it('has a waist where one block of many is slow', () => {
    const [even] = paths([bin(100)], 100)
    const [waist] = paths([bin(100, 0, 4)], 100)
    expect(even).toContain('0,10')
    expect(waist).toContain('0,42')
  })
})

it('joins bins side by side', () => expect(runs([bin(1), bin(1), bin(2), bin(1)], (b) => b.mb_s === 1)).toEqual([[0, 2], [3, 4]]))
