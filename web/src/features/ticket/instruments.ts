import type { MoveWords } from '../../api/client'
import { T } from '../../words'

/** Commands of the ticket that open an instrument. */
export type Opens = 'settings' | 'sightings' | 'pages' | 'surface' | 'path' | 'ear' | 'volume' | 'records'

const AT_GATE: Record<string, Opens> = { firmware: 'settings', detection: 'sightings', health: 'pages', layout: 'path', loader: 'path', system: 'volume' }
const NAMES: Record<Opens, string> = { settings: T.settings, sightings: T.sightings, pages: T.pages, surface: T.surfaceShort, path: T.pathShort, ear: T.earShort, volume: T.volumeShort, records: T.tools.records }

/** The instrument in which this move is answered together with its neighbours. */
export function instrumentOf(move: MoveWords): Opens | null {
  if (move.id.startsWith('seen-')) return 'sightings'
  if (move.id === 'read-scan') return 'surface'
  if (['sound', 'supply-trace', 'ready-time'].includes(move.id)) return 'ear'
  if (['disk-layout', 'loader-look', 'rebuild-table', 'rebuild-boot-record', 'rebuild-loader'].includes(move.id)) return 'path'
  if (['volume-look', 'repair-volume'].includes(move.id)) return 'volume'
  if (move.id === 'system-records') return 'records'
  if (move.id.startsWith('health-')) return 'pages'
  return move.gate === 'firmware' ? 'settings' : null
}

/** The instrument that a gate opens, ready to be pressed. */
export function atGate(gate: string, actions: Record<Opens, () => void>): { label: string; open: () => void } | null {
  const found = AT_GATE[gate]
  return found ? { label: T.openInstrument(NAMES[found]), open: actions[found] } : null
}
