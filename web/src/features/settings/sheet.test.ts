import { describe, expect, it } from 'vitest'

import type { SettingRow, Trial, Walk } from '../../api/client'
import { following, isWrong, nextOfWalk, walkOrder } from './sheet'

const row = (want: string | null, fix: string | null = 'set-boot-mode') =>
  ({ want, fix, values: [{ id: 'legacy', state: 'unlikely' }, { id: 'uefi', state: 'fits' }, { id: 'not-shown', state: 'unknown' }] }) as unknown as SettingRow

describe('the values of a row', () => {
  it('begin with what the system needs', () => expect(walkOrder(row('uefi'))).toEqual(['uefi', 'legacy', 'not-shown']))
  it.each([[null, 1, 'uefi'], ['uefi', 1, 'legacy'], ['not-shown', 1, 'uefi'], ['uefi', -1, 'not-shown'], [null, -1, 'not-shown']] as const)('after %s by %i comes %s', (now, by, next) => expect(following(row('uefi'), now, by)).toBe(next))
  it.each([['legacy', true], ['uefi', false], ['not-shown', false], [null, false]] as const)('%s is wrong: %s', (value, wrong) => expect(isWrong(row('uefi'), value)).toBe(wrong))
  it('nothing is wrong where nothing is needed, or nothing sets it right', () => {
    expect(isWrong(row(null), 'legacy')).toBe(false)
    expect(isWrong(row('uefi', null), 'legacy')).toBe(false)
  })
})

describe('a walk through the values', () => {
  const trial = { fix: 'set-boot-mode', standing: 'open' } as Trial
  it('puts one back and sets the next in one step', () =>
    expect(nextOfWalk(trial, { restore: 'uefi', next: 'legacy' } as Walk)).toEqual([{ put_back: 'set-boot-mode' }, { changed: 'set-boot-mode', before: 'uefi', after: 'legacy', walk: true }]))
  it.each([[undefined, undefined], [{ ...trial, standing: 'pending' }, { next: 'legacy' }], [trial, { next: null }]])('is over where there is none to try', (own, walk) =>
    expect(nextOfWalk(own as Trial | undefined, walk as Walk | undefined)).toBeNull())
})
