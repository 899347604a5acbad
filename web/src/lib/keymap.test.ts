import { expect, it } from 'vitest'

import { KEYMAP, TARGET_KEYS, type Command } from './keymap'

const pages = Object.entries(KEYMAP).map(([page, commands]) => [page, Object.entries(commands as Record<string, Command>)] as const)
/** acts of which a page may have two commands, of which only one is there at a time: pause and resume, stop and leave, a plain image and a compressed one */
const EITHER = new Set(['pause', 'cancel', 'keep', 'add', 'undo', 'view', 'guide', 'settings', 'other', 'none', 'right'])

it.each(pages)('no key of %s does two things at once', (_, commands) => {
  const acts = commands.map(([, c]) => c.act)
  const twice = acts.filter((act, index) => acts.indexOf(act) !== index && !EITHER.has(act))
  expect(twice).toEqual([])
})

it('one key is one act, everywhere', () => {
  const acts = new Map<string, string>()
  for (const [page, commands] of pages) {
    for (const [id, { act, keys }] of commands) {
      for (const key of keys) {
        expect(acts.get(key) ?? act, `${page}.${id} (${key})`).toBe(act)
        acts.set(key, act)
      }
    }
  }
  expect([...acts.keys()].filter((key) => /^F\d/.test(key))).toEqual([])
})

it('S signs off and nothing else', () => {
  const signs = pages.flatMap(([page, commands]) => commands.filter(([, c]) => c.keys.includes('s')).map(([id]) => `${page}.${id}`))
  expect(signs).toEqual(['ticket.sign', 'call.sign'])
})

it('Enter writes to no disk', () => {
  const writing = pages.flatMap(([, commands]) => commands.filter(([, c]) => c.act === 'write' || c.act === 'confirm').flatMap(([, c]) => c.keys))
  expect(writing).not.toContain('Enter')
})

it('lists are chosen by digits, never by a letter', () => {
  expect(TARGET_KEYS.filter((key) => /[a-z]/i.test(key))).toEqual([])
})

it('every page helps, and leads back', () => {
  for (const [page, commands] of Object.entries(KEYMAP)) {
    if ('help' in commands && page !== 'bench') expect(commands, page).toHaveProperty('back')
  }
})
