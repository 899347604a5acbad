import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useLocation } from 'wouter'

import { api } from '../../api/client'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

/** Find a ticket by number, customer or machine; the first one opens with Enter. */
export function FindSheet({ onClose }: { onClose: () => void }) {
  const [text, setText] = useState('')
  const [, navigate] = useLocation()
  const { data = [] } = useQuery({ queryKey: ['find', text], queryFn: () => api.find(text), placeholderData: (kept) => kept })
  return (
    <Sheet title={T.find} isOpen onClose={onClose}>
      <input
        autoFocus value={text} aria-label={T.find} onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => { if (e.key === 'Enter' && data[0]) navigate(`/ticket/${data[0].id}`) }}
        className="mb-3 w-full rounded border border-line bg-sheet px-3 py-2 text-l"
      />
      {data.map((found) => (
        <button
          key={found.id} type="button" onClick={() => navigate(`/ticket/${found.id}`)}
          className="flex w-full items-baseline gap-3 border-b border-hair py-2.5"
        >
          <span className="font-mono text-s text-soft">{found.number}</span>
          <span className="font-semibold">{found.machine}</span>
          <span className="truncate text-s text-soft">{found.customer}</span>
        </button>
      ))}
    </Sheet>
  )
}
