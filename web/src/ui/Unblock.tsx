import { Do } from './Commands'
import { T } from '../words'

type Releases = 'facts' | 'surface' | 'pages'

const BY: Record<string, readonly Releases[]> = {
  'data-unprotected': ['surface', 'facts'], 'copy-first': ['surface', 'facts'], 'stop-running': ['facts'], 'locked-volume': ['facts'], 'mains-power': ['facts'],
  'warning-is-real': ['pages', 'surface'], 'table-proves-drive': ['pages', 'surface'],
}
const LABELS: Record<Releases, string> = { facts: T.unblockFacts, surface: T.unblockCopy, pages: T.unblockHealth }

/** What unblocks a step, as buttons that lead there. */
export function Unblock({ of, interlock }: { of: 'ticket' | 'surface' | 'path' | 'volume'; interlock: string }) {
  return <>{(BY[interlock] ?? []).map((id) => <Do key={id} of={of as 'ticket'} id={id} label={LABELS[id]} strong />)}</>
}
