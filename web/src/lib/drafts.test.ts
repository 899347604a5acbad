import { expect, test } from 'vitest'

import { Drafts, mayReload } from './drafts'

test('what is typed counts while its field is there and not empty', () => {
  const drafts = new Drafts()
  const field = { value: 'half a no', isConnected: true }
  expect(drafts.any()).toBe(false)
  drafts.typed(field)
  expect(drafts.any()).toBe(true)
  field.value = '  '
  expect(drafts.any()).toBe(false)
  field.value = 'again'
  field.isConnected = false
  expect(drafts.any()).toBe(false)
  field.isConnected = true
  expect(drafts.any()).toBe(false)
})

test.each([
  ['nothing in the way', {}, true],
  ['a draft', { drafts: true }, false],
  ['a dialog', { dialog: true }, false],
  ['an entry on its way', { sending: 1 }, false],
  ['a page that records', { path: '/ticket/3/ear' }, false],
])('%s', (_name, own, may) => {
  expect(mayReload({ drafts: false, dialog: false, sending: 0, path: '/ticket/3', ...own })).toBe(may)
})
