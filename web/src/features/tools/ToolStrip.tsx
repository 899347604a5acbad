import { memo, useEffect, useRef } from 'react'

import type { Ticket } from '../../api/client'
import { useLink } from '../../api/queries'
import { useWords } from '../../api/words'
import { lowerFirst } from '../../lib/format'
import { keyOf, TOOL_IDS, type ToolId } from '../../lib/keymap'
import { T } from '../../words'
import { toolStates, type Tone } from './states'

const TONES: Record<Tone, string> = { plain: 'text-soft', good: 'text-pine', bad: 'text-brick', doubt: 'text-ochre-ink' }

/** Where each tool of a ticket stands. */
export const toolPath = (ticket: number, tool: ToolId): string => (tool === 'link' ? `/ticket/${ticket}?sheet=link` : tool === 'job' ? `/ticket/${ticket}` : `/ticket/${ticket}/${tool}`)

interface ToolStripProps {
  ticket: Ticket
  /** Where one is. */
  at: ToolId | null
  onTool: (tool: ToolId) => void
}

/** The tools of a ticket under the boot line, each with its key and its state; the way from any to any. */
export const ToolStrip = memo(function ToolStrip({ ticket, at, onTool }: ToolStripProps) {
  const { data: link } = useLink(ticket.id)
  const { move, words } = useWords()
  const here = useRef<HTMLButtonElement>(null)
  const states = toolStates(ticket, link, (id) => move(id, ticket.facts['platform']), lowerFirst(words.call_names[ticket.call.choice ?? ticket.call.leans] ?? ''))
  useEffect(() => {
    const strip = here.current?.parentElement
    if (strip && here.current && strip.scrollWidth > strip.clientWidth) strip.scrollLeft = here.current.offsetLeft - strip.offsetLeft - strip.clientWidth / 3
  }, [at])
  return (
    <nav aria-label={T.toolsLabel} data-tools className="flex shrink-0 gap-x-0.5 overflow-x-auto border-b border-hair bg-sheet px-2 xl:justify-between xl:px-3">
      {TOOL_IDS.map((tool) => {
        const { text, tone } = states[tool]
        const isHere = tool === at
        return (
          <button
            key={tool} ref={isHere ? here : null} type="button" onClick={() => onTool(tool)} aria-current={isHere ? 'page' : undefined} data-tool={tool}
            className={`flex min-h-12 shrink-0 flex-col justify-center border-b-[3px] px-1 pt-1 text-left max-lg:px-2 xl:px-0.5 leading-[18px] ${isHere ? 'border-ink' : 'border-transparent'}`}
          >
            <span className={`whitespace-nowrap text-m ${isHere ? 'font-bold text-ink' : 'text-indigo'}`}>{T.tools[tool]}</span>
            <span className="flex items-center gap-1">
              <kbd className="hotkey w-[18px] rounded border border-line text-center font-sans text-[12px] leading-4 text-ink max-lg:hidden">{keyOf('ticket', tool)}</kbd>
              <span title={text} className={`max-w-[17ch] truncate text-s lg:max-w-[12ch] xl:max-w-[11ch] ${TONES[tone]}`}>{text || ' '}</span>
            </span>
          </button>
        )
      })}
    </nav>
  )
})
