import { describe, expect, it } from 'vitest'

import type { Gate } from '../../api/client'
import { gateX, leadingGate, lineShape, provenUpTo } from './geometry'

const gates = (text: string, mass = 0.2) => text.split(' ').map((state) => ({ state, mass }) as Gate)

describe('the gates', () => {
  it.each([['open open unknown open', 1], ['unknown open', -1], ['open open open', 2], ['', -1]])('%s: proven up to %i', (text, last) => expect(provenUpTo(gates(text))).toBe(last))
  it.each([['open shut suspect', 1], ['open suspect suspect', 1], ['open open', null]])('%s: %s leads', (text, index) => expect(leadingGate(gates(text))).toBe(index))
  it('of suspects the heavier one leads', () => expect(leadingGate([{ state: 'suspect', mass: 0.2 } as Gate, { state: 'suspect', mass: 0.6 } as Gate])).toBe(1))
  it.each([240, 390, 820, 1280])('all seven stand on a line of %i pixels, from left to right', (width) => {
    const { start, end, half } = lineShape(width, true)
    const xs = Array.from({ length: 7 }, (_, index) => gateX(index, width, start, width - end))
    expect([...xs].sort((a, b) => a - b)).toEqual(xs)
    expect(xs[0]! - half).toBeGreaterThanOrEqual(0)
    expect(xs[6]! + half).toBeLessThanOrEqual(width)
  })
})
