import type { Drive } from '../../api/client'
import { bytes } from '../../lib/format'
import { T } from '../../words'

type Place = readonly [page: string, at: number]

// where each line of the identity stands (ACS-4 table 55, NVMe 1.4 figure 247, SPC-4 6.4 and 7.8, SBC-3 5.16)
const ATA: Record<string, Place> = {
  model: ['ata-identify', 54], serial: ['ata-identify', 20], firmware: ['ata-identify', 46], capacity: ['ata-identify', 200],
  rotation: ['ata-identify', 434], wwn: ['ata-identify', 216], security: ['ata-identify', 256],
}
const NVME: Record<string, Place> = {
  model: ['nvme-controller', 24], serial: ['nvme-controller', 4], firmware: ['nvme-controller', 64], capacity: ['nvme-controller', 280],
}
const SCSI: Record<string, Place> = {
  model: ['scsi-inquiry', 16], serial: ['scsi-vpd-80', 4], firmware: ['scsi-inquiry', 32], capacity: ['scsi-capacity', 0],
  rotation: ['scsi-vpd-b1', 4], wwn: ['scsi-vpd-83', 4],
}

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
  if (drive.namespaces.length > 1) values['namespaces'] = drive.namespaces.map((n) => T.namespaceOf(n.number, bytes(n.capacity))).join(', ')
  if (identity['told_by'] === 'kernel') values['bus'] += ` (${T.toldByKernel})`
  const decoded = new Set(drive.pages.filter((p) => p.status === 'decoded').map((p) => p.kind))
  const places = decoded.has('ata-identify') ? ATA : decoded.has('nvme-controller') ? NVME : SCSI
  return Object.entries(values).filter(([, value]) => value !== '').map(([id, value]) => {
    const place = places[id]
    const isThere = place !== undefined && decoded.has(place[0])
    return { name: T.identity[id] ?? id, value, page: isThere ? place[0] : null, at: isThere ? place[1] : null, isCode: CODES.includes(id) }
  })
}
