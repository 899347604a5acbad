import { describe, expect, it } from 'vitest'

import { bytes, day, factor, lowerFirst, minutes, percent, requestKey, upperFirst } from './format'

const table = <A, B>(name: string, of: (value: A) => B, rows: readonly (readonly [A, B])[]) =>
  describe(name, () => it.each(rows.map(([value, said]) => ({ value, said })))('$value is $said', ({ value, said }) => expect(of(value)).toBe(said)))

table('percent: what is not quite certain never reads as 0 or 100', percent, [[0, '0 %'], [0.0049, '< 1 %'], [0.005, '1 %'], [0.864, '86 %'], [0.9951, '> 99 %'], [1, '100 %']])
table('minutes as people say them', minutes, [[0.2, '1 min'], [12, '12 min'], [89.4, '89 min'], [90, '1 h 30 min'], [120, '2 h'], [110, '1 h 50 min']])
table('a factor on the odds', factor, [[9, '×9'], [1, '×1'], [1.25, '×1.3'], [1 / 9, '÷9'], [42.4, '×42'], [5000, '×> 999']])
table('bytes in the units drives are sold in', bytes, [[0, '0 B'], [999, '999 B'], [1000, '1.0 kB'], [240e9, '240 GB'], [30.7e9, '30.7 GB'], [2e18, '2000 PB']])
table('a day, in figures that nobody can mistake', day, [['2027-05-03', '3 May 2027'], ['2026-11-04T12:00:00Z', '4 Nov 2026']])
table('a name within a sentence keeps its capitals', lowerFirst, [['Drive or cable loose', 'drive or cable loose'], ['UEFI firmware', 'UEFI firmware'], ['', '']])
table('a sentence begins large', upperFirst, [['drive', 'Drive'], ['', '']])

it('makes a key of its own for every request', () => {
  expect(new Set(Array.from({ length: 100 }, requestKey)).size).toBe(100)
  expect(requestKey()).toMatch(/^[0-9a-f]{32}$/)
})
