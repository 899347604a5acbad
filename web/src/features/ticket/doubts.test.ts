import { describe, expect, it } from 'vitest'

import { shownDoubt } from './doubts'

const TAPE = [{ place: 0, body: { move: 'screen' } }, { place: 1, body: { move: 'long-test' } }]
const alone = { entries: [1], why: 'one reading', take_back: null }
const pair = { entries: [0, 1], why: 'two readings', take_back: 1 }

describe('the doubt that is shown', () => {
  it.each([
    { name: 'none', doubts: [], next: ['screen'], shown: null },
    { name: 'the look is the next step', doubts: [alone], next: ['long-test'], shown: null },
    { name: 'the look is not the next step', doubts: [alone], next: ['screen'], shown: alone },
    { name: 'nothing is next', doubts: [alone], next: [], shown: alone },
    { name: 'two that contradict each other', doubts: [pair, alone], next: ['long-test'], shown: pair },
  ])('$name', ({ doubts, next, shown }) => {
    expect(shownDoubt(doubts, TAPE, next.map((move) => ({ move })))).toBe(shown)
  })
})
