import { expect, it } from 'vitest'

import { KEYMAP } from './keymap'

const PAIRS = new Set(['Space', 'x', 'Enter', '+', '-'])
/** keys that do one of two things, of which only one is there at a time: pause and go on, stop and leave */

it.each(Object.entries(KEYMAP))('no key of %s does two things at once', (_, commands) => {
  const keys = Object.values(commands as Record<string, { keys: readonly string[] }>).flatMap((c) => c.keys)
  const twice = keys.filter((key, index) => keys.indexOf(key) !== index && !PAIRS.has(key))
  expect(twice).toEqual([])
})

it('every page helps, and leads back', () => {
  for (const [page, commands] of Object.entries(KEYMAP)) {
    if ('help' in commands && page !== 'bench') expect(commands, page).toHaveProperty('back')
  }
})
