import { T } from './en'

export { T }
export const factValue = (value: unknown): string => value === null ? T.factCleared : T.factValues[String(value)] ?? String(value)
export const factName = (name: string): string => T.factNames[name] ?? name
