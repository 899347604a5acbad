import type { Link, MoveWords, Ticket } from '../../api/client'
import { lowerFirst, percent } from '../../lib/format'
import type { ToolId } from '../../lib/keymap'
import { T } from '../../words'

export type Tone = 'plain' | 'good' | 'bad' | 'doubt'
/** What a tool says of itself in the strip: a word or two, and how much it matters. */
export interface ToolState { text: string; tone: Tone }

const GOOD = new Set(['right', 'listed', 'clean', 'passed', 'empty', 'steady', 'normal', 'sound', 'fits', 'on', 'system-first', 'present', 'firm', 'none', 'works', 'started-well', 'no-moving-parts', 'boots'])
const DOUBTFUL = new Set(['early-signs', 'link-errors', 'old-only', 'slow', 'dirty', 'locked', 'unsure', 'slow-patches', 'clock', 'no-volumes', 'not-shown', 'update-before', 'nothing-told'])
const SEEN = ['seen-setup', 'seen-live', 'seen-dock', 'seen-builtin', 'seen-picker']
const WRITTEN_TO = ['disk-layout', 'loader-look', 'volume-look']
const SETTINGS = ['clock', 'boot-mode', 'secure-boot', 'storage-mode', 'port', 'boot-order', 'entry-target']

const plain = (text: string): ToolState => ({ text, tone: 'plain' })
const tone = (outcome: string): Tone => (GOOD.has(outcome) ? 'good' : DOUBTFUL.has(outcome) ? 'doubt' : 'bad')

/** The last standing reading of any of these moves: which, and what it named. */
export function lastReading(ticket: Ticket, moves: readonly string[]): { move: string; outcome: string } | null {
  for (let index = ticket.tape.length - 1; index >= 0; index -= 1) {
    const entry = ticket.tape[index]!
    const move = String(entry.body['move'] ?? '')
    if (!entry.stands || !moves.includes(move)) continue
    const weights = Object.entries((entry.body['weights'] as Record<string, number> | undefined) ?? {}).sort((a, b) => b[1] - a[1])
    const outcome = String(entry.body['outcome'] ?? weights[0]?.[0] ?? '')
    if (outcome) return { move, outcome }
  }
  return null
}

interface Mended { say?: string; values?: { fix?: string } }

/** A repair of ours that was written after the last of these readings, and not reverted since: what they said is no longer so. */
function isRepaired(ticket: Ticket, moves: readonly string[]): boolean {
  const stands = ticket.tape.filter((e) => e.stands)
  const read = stands.findLastIndex((e) => moves.includes(String(e.body['move'] ?? '')))
  const ofVolume = moves.includes('volume-look')
  const notes = stands.slice(read + 1).map((e) => e.body['note'] as Mended | undefined)
  const last = notes.findLast((n) => (n?.say === 'path.mend-done' || n?.say === 'path.mend-taken-back') && (n.values?.fix === 'repair-volume') === ofVolume)
  return last?.say === 'path.mend-done'
}

function reading(ticket: Ticket, moves: readonly string[], name: (id: string) => MoveWords, otherwise: string): ToolState {
  const last = lastReading(ticket, moves)
  if (last && tone(last.outcome) === 'bad' && WRITTEN_TO.some((m) => moves.includes(m)) && isRepaired(ticket, moves)) return { text: T.toolStates.repaired, tone: 'good' }
  return last ? { text: lowerFirst(name(last.move).say[last.outcome] ?? last.outcome), tone: tone(last.outcome) } : plain(otherwise)
}

function settings(ticket: Ticket): ToolState {
  if (ticket.trials.some((t) => t.standing === 'pending' || t.standing === 'open')) return { text: T.toolStates.trial, tone: 'doubt' }
  const read = SETTINGS.map((move) => lastReading(ticket, [move])).filter((r) => r !== null)
  if (read.length === 0) return plain(T.toolStates.notRead)
  const wrong = read.filter((r) => tone(r.outcome) === 'bad').length
  return wrong > 0 ? { text: T.toolStates.wrong(wrong), tone: 'bad' } : { text: T.toolStates.read, tone: 'good' }
}

/** What an order of the connection is doing, as a share. */
function running(link: Link | undefined, kinds: readonly string[]): ToolState | null {
  const order = link?.orders.find((o) => kinds.includes(o.order) && (o.state === 'waiting' || o.state === 'paused'))
  if (!order) return null
  const own = link?.progress && link.progress.order === String(order.id) && link.progress.of > 0 ? percent(link.progress.done / link.progress.of) : ''
  return plain(order.state === 'paused' ? T.toolStates.paused : [T.toolStates.running, own].filter(Boolean).join(' '))
}

const held = (ticket: Ticket, move: string): boolean => ticket.held.some((h) => h.move === move)
const blocked: ToolState = { text: T.toolStates.blocked, tone: 'doubt' }

function connection(link: Link | undefined): ToolState {
  const state = link?.state ?? 'none'
  if (state === 'linked' && link?.progress && link.progress.of > 0) return plain(`${T.toolStates.reading} ${percent(link.progress.done / link.progress.of)}`)
  return { text: lowerFirst(T.linkStates[state] ?? state), tone: state === 'linked' ? 'good' : state === 'away' ? 'doubt' : 'plain' }
}

/** The state of every tool of a ticket. */
export function toolStates(ticket: Ticket, link: Link | undefined, name: (id: string) => MoveWords, call: string): Record<ToolId, ToolState> {
  const scan = running(link, ['scan', 'copy', 'fill']) ?? (lastReading(ticket, ['read-scan']) ? null : held(ticket, 'read-scan') ? blocked : null)
  const file = running(link, ['volume', 'rescue']) ?? (lastReading(ticket, ['volume-look']) ? null : held(ticket, 'volume-look') ? blocked : null)
  const diary = running(link, ['records']) ?? (lastReading(ticket, ['system-records']) ? null : held(ticket, 'system-records') ? blocked : null)
  const left = ticket.unproven.length
  return {
    link: connection(link),
    settings: settings(ticket),
    sightings: reading(ticket, SEEN, name, T.toolStates.notRead),
    pages: reading(ticket, ['health-pages'], name, T.toolStates.notRead),
    surface: scan ?? reading(ticket, ['read-scan'], name, T.toolStates.notRun),
    ear: reading(ticket, ['sound', 'supply-trace'], name, T.toolStates.notRecorded),
    path: reading(ticket, ['disk-layout', 'loader-look'], name, T.toolStates.notRead),
    volume: file ?? reading(ticket, ['volume-look'], name, T.toolStates.notChecked),
    records: diary ?? reading(ticket, ['system-records'], name, T.toolStates.notRead),
    call: plain(`${call} ${percent(ticket.call.confidence)}`),
    job: ticket.job ? plain(T.toolStates.steps(ticket.job.done, ticket.job.of)) : plain(T.toolStates.notSigned),
    papers: plain(left > 0 ? T.toolStates.checks(left) : T.toolStates.toPrint),
  }
}
