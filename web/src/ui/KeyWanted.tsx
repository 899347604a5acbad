import { useVolumes } from '../api/volumeQueries'
import { T } from '../words'

/** What asks for the recovery key says which one it must be, where the volume was looked at. */
export function KeyWanted({ ticket }: { ticket: number }) {
  const { data: volumes } = useVolumes(ticket, '', null)
  const ids = volumes?.look?.encryption?.keys.filter((k) => k.opens).map((k) => k.id) ?? []
  return ids.length > 0 && <span className="block text-m" data-key-wanted>{T.keyWanted}: <span className="font-mono font-semibold break-all">{ids.join(', ')}</span></span>
}
