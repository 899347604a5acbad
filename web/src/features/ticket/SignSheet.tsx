import type { Ticket } from '../../api/client'
import { useWords } from '../../api/words'
import { lowerFirst, percent } from '../../lib/format'
import { Commands, Do } from '../../ui/Commands'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface SignSheetProps {
  ticket: Ticket
  choice: string
  fix: string | null
  onSign: () => void
  onClose: () => void
}

/** One look at what is signed: the verdict, how sure it is, what becomes of the data, and what is not sure. A second key signs it. */
export function SignSheet({ ticket, choice, fix, onSign, onClose }: SignSheetProps) {
  const { words, move } = useWords()
  const option = ticket.call.options.find((o) => o.choice === choice && o.fix === fix)
  const sure = ticket.call.balance[choice] ?? 0
  return (
    <Commands page="sign" on={{ sure: onSign }}>
      <Sheet title={T.signTitle} isOpen onClose={onClose}>
        <p className="text-xl font-bold">{words.call_names[choice]}</p>
        {fix && <p className="text-l">{lowerFirst(move(fix).name)}</p>}
        <ul className="mt-3 text-m">
          <li className="border-b border-hair py-1.5">{T.signSureness(percent(sure))}</li>
          {option && fix && <li className="border-b border-hair py-1.5">{T.signWorks(percent(option.p_success))}</li>}
          {option && <li className="border-b border-hair py-1.5">{T.signData(option.data_outcome)}</li>}
          {!option && choice !== ticket.call.choice && <li className="border-b border-hair py-1.5 text-ochre-ink">{T.signAgainst}</li>}
        </ul>
        <p className="mt-4"><Do of="sign" id="sure" strong /></p>
        <p className="mt-1 text-m text-soft">{T.signUndo}</p>
      </Sheet>
    </Commands>
  )
}
