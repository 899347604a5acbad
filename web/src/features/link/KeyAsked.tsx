import { useLink } from '../../api/queries'
import { T } from '../../words'

/** The machine waits for a key of its own before anything is written: said wherever one looks at its ticket. */
export function KeyAsked({ ticket }: { ticket: number }) {
  const { data: link } = useLink(ticket)
  if (link?.state !== 'linked' || !link.progress?.waits_for_key) return null
  const order = link.orders.find((o) => String(o.id) === link.progress?.order)
  return (
    <p role="status" data-key-asked className="mb-3 border-l-[5px] border-ochre bg-sheet px-4 py-2.5 text-l font-bold">
      {T.keyAtMachine} <span className="font-mono">{order?.drive}</span>
    </p>
  )
}
