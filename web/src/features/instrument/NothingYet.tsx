import { useLink } from '../../api/queries'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import type { InstrumentPage } from './InstrumentFrame'

interface NothingYetProps {
  of: InstrumentPage
  ticket: number
  title: string
  /** What brings something here: while no machine is connected, and while one is. */
  hint: string
  hintLinked?: string
}

/** An instrument that has nothing to show yet: what brings it, and the way there. */
export function NothingYet({ of, ticket, title, hint, hintLinked = hint }: NothingYetProps) {
  const { data: link } = useLink(ticket)
  const isLinked = link?.state === 'linked'
  return (
    <div className="pt-12 text-center">
      <p className="text-xl font-semibold">{title}</p>
      <p className="mt-2 text-l text-soft">{isLinked ? hintLinked : hint}</p>
      {!isLinked && <p className="mt-4"><Do of={of as 'pages'} id="link" strong label={T.connectFirst} /></p>}
    </div>
  )
}
