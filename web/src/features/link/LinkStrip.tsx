import { useLink } from '../../api/queries'
import { minutes } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { KeyAsked } from './KeyAsked'

/** Shows on the ticket that its machine is linked, and how far the reading is. Nothing where there is no link. */
export function LinkStrip({ id, isClosed }: { id: number; isClosed: boolean }) {
  const { data: link } = useLink(id)
  if (!link || isClosed || link.state === 'none' || link.state === 'ended') return null
  const name = [link.machine['sys_vendor'], link.machine['product_name']].filter(Boolean).join(' ')
  const { progress } = link
  if (progress?.waits_for_key && link.state === 'linked') return <KeyAsked ticket={id} />
  return (
    <div role="status" className={`border-l-4 ${link.state === 'linked' ? 'border-pine' : 'border-ochre'} bg-sheet px-2 py-1`}>
      <div className="flex items-center gap-x-3">
        <Do of="ticket" id="link" label={link.state === 'linked' ? T.linkOf(name) : T.linkStates[link.state] ?? ''} strong />
        {progress && (
          <span className="min-w-0 truncate text-s text-soft">
            {T.linkDone(progress.done, progress.of)} · <span className="font-mono">{progress.text}</span>
            {progress.minutes_left != null && ` · ${minutes(progress.minutes_left)} ${T.left}`}
          </span>
        )}
      </div>
      {link.number && <p className="ml-1 text-m" data-number>{T.linkNumber} <span className="font-mono text-l font-bold">{link.number.slice(0, 3)} {link.number.slice(3)}</span></p>}
      {progress && progress.of > 0 && (
        <div className="mb-1 ml-1 h-1.5 rounded-full bg-hair"><div className="h-full rounded-full bg-ink moves" style={{ width: `${(progress.done / progress.of) * 100}%` }} /></div>
      )}
    </div>
  )
}
