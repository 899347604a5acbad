import { describe, expect, it } from 'vitest'

import type { Link, MoveWords, Ticket } from '../../api/client'
import { toolStates } from './states'

const name = (id: string): MoveWords => ({ id, say: { absent: 'Not listed', right: 'Name and size correct', failing: 'Failing', dirty: 'Not cleanly unmounted' } }) as unknown as MoveWords
const ticket = (tape: [string, string][], more: Partial<Ticket> = {}): Ticket =>
  ({ tape: tape.map(([move, outcome], place) => ({ place, stands: true, body: { move, outcome } })), trials: [], held: [], unproven: [], job: null, call: { choice: null, leans: 'repair', confidence: 0.4 }, ...more }) as unknown as Ticket
const link = (order: string, done: number): Link => ({ state: 'linked', orders: [{ id: 7, order, state: 'waiting' }], progress: { order: '7', done, of: 100 } }) as unknown as Link

describe('what a tool says of itself', () => {
  it.each([
    ['nothing was read', ticket([]), 'pages', 'not read', 'plain'],
    ['what was read last', ticket([['seen-setup', 'absent'], ['seen-live', 'right']]), 'sightings', 'name and size correct', 'good'],
    ['a failing drive', ticket([['health-pages', 'failing']]), 'pages', 'failing', 'bad'],
    ['in doubt', ticket([['volume-look', 'dirty']]), 'volume', 'not cleanly unmounted', 'doubt'],
    ['wrong settings', ticket([['clock', 'wrong'], ['boot-mode', 'conflicts'], ['port', 'on']]), 'settings', '2 wrong', 'bad'],
    ['a test change', ticket([['clock', 'wrong']], { trials: [{ standing: 'pending' }] } as unknown as Ticket), 'settings', 'test change open', 'doubt'],
    ['blocked', ticket([], { held: [{ move: 'read-scan' }] } as unknown as Ticket), 'surface', 'blocked', 'doubt'],
    ['a job', ticket([], { job: { done: 3, of: 17 } } as unknown as Ticket), 'job', '3 of 17', 'plain'],
  ] as const)('%s', (_, own, tool, text, tone) => {
    expect(toolStates(own, undefined, name, 'repair')[tool]).toEqual({ text, tone })
  })

  it.each([
    ['its repair', ['repair-volume:done'], 'repaired'],
    ['its repair, reverted', ['repair-volume:done', 'repair-volume:taken-back'], 'damaged'],
    ['a repair of the boot path', ['rebuild-loader:done'], 'damaged'],
  ] as const)('of a file system after %s', (_, mended, text) => {
    const own = ticket([['volume-look', 'damaged']])
    const notes = mended.map((m) => { const [fix, end] = m.split(':'); return { stands: true, body: { note: { say: `path.mend-${end}`, values: { fix } } } } })
    expect(toolStates({ ...own, tape: [...own.tape, ...notes] } as unknown as Ticket, undefined, name, 'repair').volume.text).toBe(text)
  })

  it('runs with its share, also where it was blocked before', () => {
    const own = ticket([], { held: [{ move: 'read-scan' }] } as unknown as Ticket)
    expect(toolStates(own, link('scan', 34), name, 'repair').surface.text).toBe('running 34 %')
  })

  it('leans with its probability', () => {
    expect(toolStates(ticket([]), undefined, name, 'repair').call.text).toBe('repair 40 %')
  })
})
