import type { MoveWords } from '../../api/client'
import { T } from '../../words'

type Opens = 'settings' | 'sightings' | 'pages'

interface Instrument {
  hotkey: string
  label: string
  opens: Opens
}

const SETTINGS: Instrument = { hotkey: 'T', label: T.settings, opens: 'settings' }
const SIGHTINGS: Instrument = { hotkey: 'I', label: T.sightings, opens: 'sightings' }
const PAGES: Instrument = { hotkey: 'P', label: T.pages, opens: 'pages' }
const AT_GATE: Record<string, Instrument> = { firmware: SETTINGS, detection: SIGHTINGS, health: PAGES }

/** The instrument in which this move is answered together with its neighbours. */
export function instrumentOf(move: MoveWords): Instrument | null {
  if (move.id.startsWith('seen-')) return SIGHTINGS
  if (move.id.startsWith('health-')) return PAGES
  return move.gate === 'firmware' ? SETTINGS : null
}

/** The instrument that a gate opens, ready to be pressed. */
export function atGate(gate: string, actions: Record<Opens, () => void>): { label: string; open: () => void } | null {
  const found = AT_GATE[gate]
  return found ? { label: T.openInstrument(found.label), open: actions[found.opens] } : null
}
