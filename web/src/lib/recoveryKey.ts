/** A recovery password as it is typed: eight groups of six digits, each eleven times a number of 16 bits, so that a wrong digit is known at once. */
const GROUPS = 8
const DIGITS = 6
const TIMES = 11
const MOST = 65_536

export interface RecoveryKey {
  groups: readonly string[]
  /** groups, counted from 1, that cannot be right */
  wrong: readonly number[]
  isWhole: boolean
}

/** Null for what is no recovery password: a passphrase, or the name of a file. */
export function recoveryKey(typed: string): RecoveryKey | null {
  if (!/^[\d\s-]*$/.test(typed)) return null
  const digits = typed.replace(/\D/g, '')
  if (digits.length === 0) return null
  const groups = digits.match(/\d{1,6}/g) ?? []
  const wrong = groups.flatMap((group, place) => (group.length === DIGITS && (Number(group) % TIMES !== 0 || Number(group) / TIMES >= MOST) ? [place + 1] : []))
  return { groups, wrong, isWhole: groups.length === GROUPS && digits.length === GROUPS * DIGITS && wrong.length === 0 }
}

/** As it is shown while it is typed: digits in groups, anything else as it is. */
export function grouped(typed: string): string {
  const own = recoveryKey(typed)
  if (!own) return typed
  const joined = own.groups.slice(0, GROUPS).join('-')
  return typed.endsWith('-') && own.groups.at(-1)?.length === DIGITS && own.groups.length < GROUPS ? `${joined}-` : joined
}
