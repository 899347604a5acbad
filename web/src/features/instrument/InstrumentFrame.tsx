import type { ReactNode } from 'react'
import { useLocation } from 'wouter'

import type { Capture, Ticket } from '../../api/client'
import { TOOL_IDS, type Handlers, type PageId, type ToolId } from '../../lib/keymap'
import { useStable } from '../../lib/stable'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { PaneBoundary } from '../../ui/PaneBoundary'
import { T } from '../../words'
import { DropZone } from '../ticket/DropZone'
import { KeyAsked } from '../link'
import { TicketHead } from '../ticket'
import { ToolStrip, toolPath } from '../tools'
import { useHelp } from './useHelp'

export type InstrumentPage = Extract<PageId, 'settings' | 'sightings' | 'pages' | 'surface' | 'path' | 'volume' | 'records' | 'ear' | 'call' | 'parts' | 'papers'>

interface FrameProps<P extends InstrumentPage> {
  page: P
  ticket: Ticket
  title: string
  /** One sentence: what the instrument says at a glance, or how to use it. */
  reading?: ReactNode
  /** What the instrument can do now, besides leaving. */
  on: Handlers<P>
  targets?: readonly ((() => void) | undefined)[]
  isOn?: boolean
  /** Beside the title, before the way back. */
  tools?: ReactNode
  /** Stands beside the body where there is room, else below it. */
  aside?: ReactNode
  asideWidth?: 'narrow' | 'wide'
  error?: Error | null
  isWaiting?: boolean
  onFile?: (file: File) => void
  dropped?: Capture | null
  children: ReactNode
}

const ASIDE = { narrow: 'lg:grid-cols-[minmax(0,1fr)_264px]', wide: 'lg:grid-cols-[minmax(0,1fr)_330px]' }

/** What every instrument shares: the ticket's head and rail, title and reading, body and aside, its keys, its ways out. */
export function InstrumentFrame<P extends InstrumentPage>(props: FrameProps<P>) {
  const { page, ticket, title, reading, on, targets = [], isOn = true, tools, aside, asideWidth = 'narrow', error, isWaiting = false, onFile, children } = props
  const [, navigate] = useLocation()
  const help = useHelp()
  const back = () => navigate(`/ticket/${ticket.id}`)
  const bench = () => navigate('/')
  const facts = () => navigate(`/ticket/${ticket.id}?sheet=facts`)
  const go = useStable({ tool: (tool: ToolId) => navigate(toolPath(ticket.id, tool)) })
  const at = TOOL_IDS.find((tool) => tool === (page as string)) ?? null
  const strip = Object.fromEntries(TOOL_IDS.filter((tool) => tool !== at && (tool !== 'job' || ticket.job !== null)).map((tool) => [tool, () => go.tool(tool)]))
  const common = { ...strip, back, bench, facts } as unknown as Handlers<P>
  return (
    <Commands page={page} on={{ ...common, ...on }} targets={targets} isOn={isOn} helps={help.shows} onHelp={help.set}>
      <DropZone {...(onFile && { onFile })}>
        <TicketHead isTool ticket={ticket} onGate={back} onBench={bench} onFacts={facts} onHelp={() => help.set(true)} />
        <ToolStrip ticket={ticket} at={at} onTool={go.tool} />
        <PaneBoundary>
          <main aria-label={title} className={`min-h-0 flex-1 overflow-y-auto ${aside ? `grid content-start lg:content-stretch lg:overflow-hidden ${ASIDE[asideWidth]}` : ''}`}>
            <div className="min-w-0 px-4 py-3 lg:min-h-0 lg:overflow-y-auto lg:px-6">
              <div className="mb-2 flex flex-wrap items-baseline gap-x-4 gap-y-1">
                <h1 className="text-xl font-bold">{title}</h1>
                {reading && <div className="min-w-0 text-s text-soft max-lg:order-last max-lg:w-full lg:flex-1">{reading}</div>}
                <span className="ml-auto flex flex-wrap items-center gap-x-4">
                  {tools}
                  <Do of={page as 'settings'} id="back" />
                </span>
              </div>
              {error && <div className="mb-3"><Note title={T.notKept}>{error.message}</Note></div>}
              <KeyAsked ticket={ticket.id} />
              {isWaiting && <div className="mb-3"><Note title={T.waiting} tone="ochre" /></div>}
              {children}
            </div>
            {aside && <aside tabIndex={0} className="border-dashed border-line bg-sheet px-4 py-4 max-lg:border-t lg:min-h-0 lg:overflow-y-auto lg:border-l">{aside}</aside>}
          </main>
        </PaneBoundary>
      </DropZone>
    </Commands>
  )
}
