import { expect, test } from 'vitest'

import { grouped, recoveryKey } from './recoveryKey'

const RIGHT = '357577-645183-623590-204930-076406-680669-642246-507573'

test.each([
  ['whole', RIGHT, [], true],
  ['typed without lines', RIGHT.replaceAll('-', ''), [], true],
  ['a wrong digit', RIGHT.replace('623590', '623591'), [3], false],
  ['too large for its group', '720896-645183', [1], false],
  ['a group that is not whole yet', '357577-6451', [], false],
])('%s', (_, typed, wrong, isWhole) => {
  expect(recoveryKey(typed)).toMatchObject({ wrong, isWhole })
})

test.each(['', 'the boat is blue', 'key 357577'])('%j is none', (typed) => { expect(recoveryKey(typed)).toBeNull() })

test.each([
  ['357577645183', '357577-645183'],
  ['357577-', '357577-'],
  ['a passphrase', 'a passphrase'],
  [`${RIGHT}9`, RIGHT],
])('%j is shown as %j', (typed, shown) => { expect(grouped(typed)).toBe(shown) })
