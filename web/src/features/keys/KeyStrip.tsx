import { useState } from 'react'

import type { EntryBody, Ticket } from '../../api/client'
import { useTicketKeys } from '../../api/queries'
import { useWords } from '../../api/words'
import type { Handlers } from '../../lib/keymap'
import { Commands, Do } from '../../ui/Commands'
import { Key } from '../../ui/Key'
import { T } from '../../words'
import { KeyLine } from './KeyLine'

interface KeyStripProps {
  ticket: Ticket
  moveId: string
  isOn: boolean
  onTried: (entry: EntryBody) => void
  /** The key worked and that is itself the move's answer. */
  onReached: (() => void) | null
}

/** Which key to press at power-on, best first: Enter when it worked, minus when it did not, plus for another one. */
export function KeyStrip({ ticket, moveId, isOn, onTried, onReached }: KeyStripProps) {
  const { words } = useWords()
  const purpose = words.key_moves[moveId]
  const { data } = useTicketKeys(ticket, purpose !== undefined)
  const [failed, setFailed] = useState<readonly string[]>([])
  const [isTyping, setTyping] = useState(false)
  const own = data?.purposes.find((p) => p.purpose === purpose)
  const left = (own?.keys ?? []).filter((k) => !failed.includes(k.key))
  const first = left[0]
  const tried = (key: string, worked: boolean) => {
    onTried({ tried_key: key, opens: purpose, worked })
    if (worked) onReached?.()
    else setFailed([...failed, key])
  }
  const on: Handlers<'keyStrip'> = {
    ...(!isTyping && { other: () => setTyping(true) }),
    ...(first && {
      worked: (event) => (event?.target instanceof HTMLButtonElement ? event.target.click() : tried(first.key, true)),
      didNot: () => tried(first.key, false),
    }),
  }
  if (!own) return null
  return (
    <Commands page="keyStrip" on={on} isOn={isOn && !isTyping}>
    <section aria-label={T.keysFor(own.name)} className="mb-3 rounded-lg border border-hair px-3.5 py-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="text-s font-bold text-soft">{T.keysFor(own.name)}</span>
        {left.slice(0, 3).map((k, index) => <KeyLine key={k.key} tried={k} strong={index === 0} />)}
      </div>
      <div className="flex flex-wrap items-center gap-x-4">
        {first && <Do of="keyStrip" id="worked" label={T.keyWorked(first.key)} strong />}
        <Do of="keyStrip" id="didNot" />
        {isTyping ? (
          <form
            onSubmit={(event) => {
              event.preventDefault()
              const text = new FormData(event.currentTarget).get('key')
              setTyping(false)
              if (typeof text === 'string' && text.trim()) tried(text.trim(), true)
            }}
          >
            <input
              autoFocus name="key" maxLength={30} aria-label={T.keyOtherAsk} placeholder={T.keyOtherAsk} autoComplete="off"
              onKeyDown={(event) => { if (event.key === 'Escape') { event.stopPropagation(); setTyping(false) } }}
              className="min-h-9 w-40 rounded border border-line bg-sheet px-2 text-m"
            /> <Key>{T.enter}</Key>
          </form>
        ) : <Do of="keyStrip" id="other" />}
      </div>
    </section>
    </Commands>
  )
}
