import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useLocation } from 'wouter'

import { findQuery } from '../../api/queries'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

/** Find a ticket by number, customer or machine; the first one opens with Enter. */
export function FindSheet({ onClose }: { onClose: () => void }) {
  const [text, setText] = useState('')
  const [, navigate] = useLocation()
  const cache = useQueryClient()
  const { data = [] } = useQuery({ ...findQuery(text), placeholderData: (kept) => kept })
  // whoever types fast and presses Enter means what was typed, not what was found for half of it
  const openFirst = async () => {
    const [first] = await cache.fetchQuery(findQuery(text))
    if (first) navigate(`/ticket/${first.id}`)
  }
  return (
    <Sheet title={T.find} isOpen onClose={onClose}>
      <input
        autoFocus value={text} aria-label={T.find} onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => { if (e.key === 'Enter') void openFirst() }}
        className="mb-3 w-full rounded border border-line bg-sheet px-3 py-2 text-l"
      />
      {data.map((found) => (
        <button
          key={found.id} type="button" onClick={() => navigate(`/ticket/${found.id}`)}
          className="touch flex w-full items-baseline gap-3 border-b border-hair py-2.5"
        >
          <span className="font-mono text-s text-soft">{found.number}</span>
          <span className="font-semibold">{found.machine}</span>
          <span className="truncate text-s text-soft">{found.customer}</span>
        </button>
      ))}
    </Sheet>
  )
}
