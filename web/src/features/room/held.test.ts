import { describe, expect, it } from 'vitest'

import type { TicketRoom } from '../../api/workQueries'
import { bytesOf, deletable } from './held'

const ticket = (id: number, more: Partial<TicketRoom> = {}): TicketRoom => ({ id, number: `GC-${id}`, customer: 'Anna', machine: 'Ferrow', closed_at: null, images: 0, recovered: 0, checks: 0, may_go: false, goes_on: null, ...more })

describe('what the disk holds', () => {
  it('adds up what goes together', () => expect(bytesOf(ticket(1, { images: 5, recovered: 3, checks: 1 }))).toBe(9))
  it('offers only what was handed over', () => {
    expect(deletable([ticket(1), ticket(2, { closed_at: '2026-11-01T10:00:00+00:00' })]).map((own) => own.id)).toEqual([2])
  })
})
