import type { MoveWords, TapeEntry, Ticket, Words } from '../../api/client'
import { lowerFirst, percent } from '../../lib/format'
import { factName, factValue, T } from '../../words'

export interface Described {
  title: string
  detail: string
}

const text = (value: unknown): string => (typeof value === 'string' ? value : '')

/** The likeliest outcome of soft evidence. */
export function leading(weights: unknown): string {
  if (!weights || typeof weights !== 'object') return ''
  const sorted = Object.entries(weights as Record<string, number>).sort((a, b) => b[1] - a[1])
  return sorted[0]?.[0] ?? ''
}

/** What an entry says, in two lines. */
export function describe(entry: TapeEntry, move: (id: string) => MoveWords, words: Words): Described {
  const body = entry.body
  const note = entry.note
  if (entry.broken) return { title: T.brokenEntry, detail: entry.broken }
  if ('undo' in body) return { title: `${T.undone}: ${Number(body['undo']) + 1}`, detail: note }
  if ('fact' in body) {
    const facts = Object.entries(body['fact'] as Record<string, unknown>)
    return { title: facts.map(([name, value]) => `${factName(name)}: ${factValue(value, name)}`).join(', '), detail: note }
  }
  if ('put_back' in body) return { title: T.putBack(move(text(body['put_back'])).name), detail: note }
  if ('changed' in body) {
    const value = (id: unknown) => words.values[text(id)] ?? text(id)
    return { title: T.changedEntry(move(text(body['changed'])).name, value(body['before']), value(body['after'])), detail: note || T.pendingWhy }
  }
  if ('saw' in body) {
    const what = text(body['saw'])
    return { title: T.sawAt(words.instruments[what] ?? what, words.values[text(body['value'])] ?? text(body['value']), words.instruments[text(body['at'])] ?? ''), detail: note }
  }
  if ('tried_key' in body) {
    return { title: T.triedKey(text(body['tried_key']), words.purposes[text(body['opens'])] ?? text(body['opens']), body['worked'] === true), detail: note }
  }
  const step = (id: unknown) => words.steps[text(id)]
  if ('step' in body) {
    const own = step(body['step'])
    const said = own?.answers[text(body['answer'])] ?? text(body['answer'])
    const value = body['value'] == null ? '' : String(body['value'])
    return { title: T.stepEntry(own?.name ?? text(body['step']), said), detail: move('screen').say[value] ?? value }
  }
  if ('waive' in body) return { title: T.waivedEntry(step(body['waive'])?.name ?? text(body['waive'])), detail: text(body['reason']) }
  if ('first' in body) return { title: T.firstEntry(step(body['first'])?.name ?? text(body['first'])), detail: note }
  if ('out' in body) return { title: T.outEntry(text(body['out']), Number(body['count'] ?? 1), text(body['kind'])), detail: ((body['fields'] as number[] | undefined) ?? []).map(T.field).join(', ') }
  if ('back' in body) return { title: T.backEntry(T.tray, Number(body['missing'] ?? 0)), detail: note }
  if ('part' in body) {
    const part = body['part'] as { name?: string; serial?: string }
    return { title: T.partEntry(part.name ?? ''), detail: part.serial ?? '' }
  }
  if ('picture' in body) return { title: T.pictureEntry, detail: [text(body['says']), body['evidence'] === true ? T.isEvidence : ''].filter(Boolean).join(' · ') }
  if ('spent' in body) return { title: T.spentEntry(Number(body['spent'])), detail: note }
  if ('override' in body) {
    return { title: `${T.override}: ${move(text(body['move'])).name}`, detail: text(body['reason']) }
  }
  if ('started' in body) return { title: T.started(move(text(body['started'])).name), detail: note }
  if ('reopened' in body) return { title: T.reopenedEntry, detail: note }
  if ('signed' in body) {
    const odds = body['odds'] as { confidence?: number } | undefined
    const reason = T.returnReasons[text(body['reason'])]
    const fix = body['fix'] ? move(text(body['fix'])).name : reason ?? note
    const at = odds?.confidence !== undefined ? T.signedWith(percent(odds.confidence)) : ''
    return { title: `${T.callSigned}: ${words.call_names[text(body['signed'])] ?? ''}`, detail: [fix, at].filter(Boolean).join(', ') }
  }
  if (Array.isArray(body['proven'])) {
    const names = (body['proven'] as string[]).map((id) => words.faults.find((f) => f.id === id)?.name ?? id)
    return { title: `${T.provenAs}: ${names.join(', ') || lowerFirst(T.nothingWrong)}`, detail: note }
  }
  if ('move' in body) {
    const made = move(text(body['move']))
    const outcome = text(body['outcome']) || leading(body['weights'])
    const found = body['found'] ? `${made.name}: ${words.values[text(body['found'])] ?? text(body['found'])}` : made.name
    const code = text(body['code'])
    return { title: made.say[outcome] ?? outcome, detail: [found, note, code && T.codeShown(code)].filter(Boolean).join('. ') }
  }
  return { title: note, detail: body['code'] ? T.codeShown(text(body['code'])) : '' }
}

const GATE_WORDS: Record<string, string> = { open: T.gateOpen, shut: T.gateShut, suspect: T.gateSuspect, unproven: T.gateUnproven }

/** The word for a gate's state. */
export const gateWord = (state: string): string => GATE_WORDS[state] ?? state

/** What is known of the machine, in one line. */
export function machineLine(ticket: Ticket): string {
  const facts = ticket.facts
  const drive = facts['drive_kind'] ? factValue(facts['drive_kind']) : null
  const year = facts['drive_year'] ? T.fromYear(String(facts['drive_year'])) : ''
  const parts = [facts['form'] ? factValue(facts['form']) : null, facts['installed_os'] ? factValue(facts['installed_os']) : null, drive && `${drive} ${year}`.trim()]
  return parts.filter(Boolean).join(' · ')
}
