import { useQuery } from '@tanstack/react-query'
import type { RefObject } from 'react'

import { call } from '../../api/client'
import type { components } from '../../api/schema'
import { useWords } from '../../api/words'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { keys } from '../../api/keys'

type Codes = components['schemas']['CodesOut']

interface CodePrintedProps {
  ticketId: number
  value: string
  field: RefObject<HTMLInputElement | null>
  onChange: (code: string) => void
}

/** The code that the machine's own test prints, and what the shop's book knows of it while it is typed. */
export function CodePrinted({ ticketId, value, field, onChange }: CodePrintedProps) {
  const { fault } = useWords()
  const { data } = useQuery<Codes>({
    queryKey: keys.codes(ticketId, value.trim()), placeholderData: (before) => before,
    queryFn: ({ signal }) => call<Codes>(`/tickets/${ticketId}/codes?code=${encodeURIComponent(value.trim())}`, { signal }),
  })
  const known = value.trim() ? data?.known : null
  return (
    <div className="mb-2 rounded-lg border border-hair px-3.5 py-2" data-code-known={known ? known.tickets : 0}>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <Do of="ways" id="code" />
        <input
          ref={field} value={value} maxLength={60} list="codes-seen" aria-label={T.codeAsk} placeholder={T.codeAsk} autoComplete="off" autoCapitalize="characters" spellCheck={false}
          onChange={(event) => onChange(event.target.value)}
          onKeyDown={(event) => { if (event.key === 'Enter' || event.key === 'Escape') { event.preventDefault(); event.stopPropagation(); event.currentTarget.blur() } }}
          className="min-h-11 min-w-0 flex-1 rounded border border-line bg-sheet px-3 text-l tracking-wide"
        />
        <datalist id="codes-seen">{data?.seen.map((code) => <option key={code} value={code} />)}</datalist>
      </div>
      {value.trim() && data && (
        <p role="status" className="mt-1 text-s text-soft">
          {known ? T.codeKnown(known.tickets, known.level) : T.codeNew}
          {known && known.turned_out.length > 0 && <> {T.codeTurnedOut}: {known.turned_out.map(([id, times]) => `${fault(id)} ${T.codeTimes(times, known.settled)}`).join(', ')}.</>}
          {known && known.settled > 0 && known.turned_out.length === 0 && <> {T.codeNothing}</>}
          {known && known.settled === 0 && <> {T.codeOpen}</>}
        </p>
      )}
    </div>
  )
}
