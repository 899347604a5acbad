import { T } from './en'

export { T }
/** `name`: the fact it belongs to, where the word depends on it. */
export const factValue = (value: unknown, name = ''): string => value === null ? T.factCleared : T.factValues[`${name}=${String(value)}`] ?? T.factValues[String(value)] ?? String(value)
export const factName = (name: string): string => T.factNames[name] ?? name
