import { expect, test } from 'vitest'

import type { SystemEvent } from '../../api/volumeQueries'
import { DAY, marks, MINUTE, runs, seen, ticks } from './timeline'

const START = Date.parse('2026-11-20T10:00:00Z')
const event = (minutes: number, kind: string, row = 'runs'): SystemEvent => ({ at: new Date(START + minutes * MINUTE).toISOString(), until: null, kind, row, source: '', id: null, text: kind, count: 1 })

test.each([
  ['a run with its shutdown', [event(0, 'start'), event(90, 'stop')], [[0, 90, true]]],
  ['two sources of one start', [event(0, 'start'), event(1, 'start'), event(60, 'stop')], [[0, 60, true]]],
  ['power cut: it ends with its last record', [event(0, 'start'), event(40, 'disk-error', 'disk'), event(100, 'start'), event(130, 'stop')], [[0, 40, false], [100, 130, true]]],
  ['still running', [event(0, 'start'), event(7, 'update-installed', 'updates')], [[0, 7, false]]],
  ['no start at all', [event(0, 'stop')], []],
])('%s', (_, events, wanted) => {
  expect(runs(events).map((r) => [(r.from - START) / MINUTE, (r.to - START) / MINUTE, r.isShutDown])).toEqual(wanted)
})

test('starts and stops have no mark of their own', () => {
  expect(marks([event(0, 'start'), event(5, 'disk-error', 'disk')]).map((e) => e.kind)).toEqual(['disk-error'])
})

test.each([1, 30, 400])('a window of %i days never leaves what there is, and has few lines', (days) => {
  const events = [event(0, 'start'), event(60 * 24 * days, 'stop')]
  for (const span of [DAY, 30 * DAY, 365 * DAY]) {
    const own = seen(events, span, START + days * DAY)
    expect(own.to - own.from).toBeLessThanOrEqual(Math.max(span, 1.1 * days * DAY))
    expect(own.to).toBeGreaterThanOrEqual(START + days * DAY)
    expect(ticks(own).length).toBeLessThanOrEqual(9)
  }
})
