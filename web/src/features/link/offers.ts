import type { Capture, Link } from '../../api/client'
import { T } from '../../words'

export interface Offer {
  order: string
  kind: string
  held: string
  device: string | null
  label: string
}

/** Kinds of page that only a drive has which runs tests of its own when told to. */
const TESTED = ['ata-identify', 'nvme-controller']

/** True while a probe is linked or may still come. */
export const isUp = (link: Link): boolean => link.state !== 'none' && link.state !== 'ended'

/** What the probe can be told now: nothing while it is away or busy; a test for each drive inside that was read. */
export function offersNow(link: Link, captures: readonly Capture[]): Offer[] {
  if (link.state !== 'linked' || link.orders.some((o) => o.state === 'waiting')) return []
  const inside = (captures[0]?.devices ?? []).filter((d) => d.bus !== 'usb' && d.device && d.pages.some((p) => TESTED.includes(p.kind) && p.status === 'decoded'))
  return link.offers.flatMap((o): Offer[] => o.order === 'read'
    ? [{ ...o, device: null, label: T.orderRead }]
    : inside.filter((d) => o.order === 'scan' || o.order === 'copy' || o.kind in (d.tests ?? {})).map((d) => ({ ...o, device: d.device, label: T.orderTest(o.kind, d.device, d.tests?.[o.kind] ?? 0, o.order === 'copy') })))
}
