import type { Drive } from '../../api/client'
import { bytes } from '../../lib/format'
import { T } from '../../words'

// where each line of the identity stands in its page (ACS-4 table 55, NVMe 1.4 figure 247)
const ATA_AT: Record<string, number> = { model: 54, serial: 20, firmware: 46, capacity: 200, rotation: 434, wwn: 216, security: 256 }
const NVME_AT: Record<string, number> = { model: 24, serial: 4, firmware: 64, capacity: 280 }

export interface IdentityLine {
  name: string
  value: string
  /** Kind of page and byte it stands at, null where it is put together from several. */
  page: string | null
  at: number | null
  isCode: boolean
}

const CODES = ['model', 'serial', 'firmware', 'wwn', 'security']

/** Who the drive is, line by line, each with the place it rests on. */
export function identityLines(drive: Drive): IdentityLine[] {
  const identity = drive.identity
  if (!identity) return []
  const rotation = identity['rotation']
  const values: Record<string, string> = {
    model: String(identity['model'] ?? ''), serial: String(identity['serial'] ?? ''), firmware: String(identity['firmware'] ?? ''),
    capacity: bytes(Number(identity['capacity'] ?? 0)),
    rotation: rotation === 0 ? T.flash : typeof rotation === 'number' ? T.rpm(rotation) : T.notTold,
    bus: [drive.bus, identity['transport']].filter(Boolean).join(', '),
  }
  if (identity['wwn']) values['wwn'] = String(identity['wwn'])
  if (Array.isArray(identity['security']) && identity['security'].length > 0) values['security'] = identity['security'].join(', ')
  const isNvme = drive.bus === 'nvme'
  const places = isNvme ? NVME_AT : ATA_AT
  return Object.entries(values).map(([id, value]) => ({
    name: T.identity[id] ?? id, value, page: isNvme ? 'nvme-controller' : 'ata-identify', at: places[id] ?? null, isCode: CODES.includes(id),
  }))
}
