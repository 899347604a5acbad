import { describe, expect, it, vi } from 'vitest'

import { money } from './money'

describe('amounts', () => {
  it.each([
    ['no currency', 207.36, 'XXX', false, '¤207.36'],
    ['whole, without one', 1460, 'XXX', true, '¤1,460'],
    ['a currency without coins', 1460, 'JPY', false, '¥1,460'],
    ['a currency with coins', 62, 'EUR', false, '€62.00'],
    ['what is no code', 62, 'nonsense', false, '62.00'],
  ] as const)('%s', (_, amount, currency, whole, text) => {
    vi.stubGlobal('navigator', { language: 'en-US' })
    expect(money(amount, { currency }, whole)).toBe(text)
  })
})
