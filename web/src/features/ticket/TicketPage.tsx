import { useState } from 'react'
import { useLocation, useSearchParams } from 'wouter'

import { AwayError, type EntryBody, type Held, type Ticket } from '../../api/client'
import { useAddFile, useAppend, useHandOver, useReopen, useTakeIn, useTicket } from '../../api/queries'
import { useAddPicture } from '../../api/workQueries'
import { useWords } from '../../api/words'
import { lowerFirst, requestKey } from '../../lib/format'
import { TOOL_IDS, type Handlers, type ToolId } from '../../lib/keymap'
import { initials } from '../../lib/person'
import { useStable } from '../../lib/stable'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { PaneBoundary } from '../../ui/PaneBoundary'
import { T } from '../../words'
import { LinkSheet } from '../link'
import { NoteSheet, usePastedPicture } from '../papers'
import { ToolStrip, toolPath } from '../tools'
import { JobList, JobStrip, StepInHand, TrayPane, useJob } from '../work'
import { CallStrip } from './CallStrip'
import { comingBack } from './handover'
import { DropZone } from './DropZone'
import { FactsSheet } from './FactsSheet'
import { HandOverSheet } from './HandOverSheet'
import { InHand } from './InHand'
import { MovePicker } from './MovePicker'
import { OverrideSheet } from './OverrideSheet'
import { Panes } from './Panes'
import { Prompts } from './Prompts'
import { SignSheet } from './SignSheet'
import { Suspects } from './Suspects'
import { Tape, showEntry } from './Tape'
import { lastStanding } from './tapeLines'
import { TicketHead } from './TicketHead'
import { atGate, instrumentOf } from './instruments'
import { WaysSheet } from './WaysSheet'
import { WhySheet } from './WhySheet'

const RUNS_ALONE_MINUTES = 10

type Overlay =
  | { kind: 'picker'; gate: string | null }
  | { kind: 'override'; held: Held }
  | { kind: 'facts' }
  | { kind: 'why' }
  | { kind: 'ways' }
  | { kind: 'handover' }
  | { kind: 'link' }
  | { kind: 'note' }
  | { kind: 'sign' }
  | { kind: 'help' }

export function TicketPage({ id }: { id: number }) {
  const { data, error } = useTicket(id)
  if (data) return <OpenTicket ticket={data} />
  return <div className="p-8">{error ? <Note title={T.notKept}>{error.message}</Note> : <p className="text-l text-soft">{T.loading}</p>}</div>
}

/** A sheet that the way here asked for. */
const opens = (sheet: string | null): Overlay | null => (sheet === 'facts' || sheet === 'link' ? { kind: sheet } : null)

function OpenTicket({ ticket }: { ticket: Ticket }) {
  const { move } = useWords()
  const [, navigate] = useLocation()
  const [search, setSearch] = useSearchParams()
  const [overlay, setOverlay] = useState<Overlay | null>(opens(search.get('sheet')))
  const append = useAppend(ticket.id)
  const addFile = useAddFile(ticket.id)
  const addPicture = useAddPicture(ticket.id)
  const handOver = useHandOver(ticket.id)
  const reopen = useReopen(ticket.id)
  const takeIn = useTakeIn()
  const chosen = search.get('move')
  const onTrial = ticket.trials.findLast((t) => t.standing === 'pending')
  const recommended = ticket.running?.move ?? onTrial?.fix ?? ticket.next[0]?.move ?? null
  const inHand = ticket.closed_at || (ticket.job != null && !chosen && !ticket.running) ? null : chosen ?? recommended
  const carried = useJob(ticket)
  const job = chosen === null && !ticket.running ? carried : null
  const [showsTape, setShowsTape] = useState(false)
  // until the job is there nothing may be answered: a digit meant for its step must not answer a move of the triage
  const isComing = job === null && ticket.job != null && !ticket.closed_at && chosen === null && !ticket.running

  const choose = (next: string | null) => setSearch(next ? { move: next } : {}, { replace: true })
  const send = (...entries: EntryBody[]) => {
    append.mutate({ entries, key: requestKey() })
    choose(null)
    setOverlay(null)
  }
  const doubtful = ticket.doubts[0]?.take_back ?? null
  const stuck = ticket.trials.findLast((t) => t.standing === 'open' || t.standing === 'pending')
  const last = lastStanding(ticket.tape)
  const actions = useStable({
    undo: (places: readonly number[]) => send(...places.slice(0, 10).map((place) => ({ undo: place }))),
    outcome: (outcome: string) => inHand && send({ move: inHand, outcome }),
    answer: (other: string, outcome: string) => append.mutate({ entries: [{ move: other, outcome }], key: requestKey() }),
    tried: (entry: EntryBody) => append.mutate({ entries: [entry], key: requestKey() }),
    pick: (gate: string) => setOverlay({ kind: 'picker', gate }),
    held: () => setOverlay({ kind: 'picker', gate: null }),
    bench: () => navigate('/'),
    facts: () => setOverlay({ kind: 'facts' }),
    tool: (tool: ToolId) => (tool === 'link' ? setOverlay({ kind: 'link' }) : tool === 'job' ? choose(null) : navigate(toolPath(ticket.id, tool))),
    help: () => setOverlay({ kind: 'help' }),
  })
  const isOpen = !ticket.closed_at
  const takeFile = (file: File) => (file.type.startsWith('image/') ? addPicture.mutate({ file, says: '', evidence: false, key: requestKey() }) : addFile.mutate(file))
  usePastedPicture(takeFile, isOpen && overlay === null)
  const on: Handlers<'ticket'> = {
    bench: actions.bench, facts: actions.facts,
    ...Object.fromEntries(TOOL_IDS.filter((tool) => tool !== 'job').map((tool) => [tool, () => actions.tool(tool)])),
    ...(isOpen && { note: () => setOverlay({ kind: 'note' }) }), ...(!job && { why: () => setOverlay({ kind: 'why' }) }),
    ...(ticket.job && chosen !== null && { job: () => choose(null) }),
    back: () => (chosen ? choose(null) : actions.bench()),
    ...(isOpen && { else: actions.held }),
    ...(isOpen && inHand && !job && move(inHand).ways && { ways: () => setOverlay({ kind: 'ways' }) }),
    ...job?.on,
    ...(job && { tape: () => setShowsTape(!showsTape) }),
    ...(isOpen && last !== null && { undo: () => actions.undo([last]) }),
    ...(inHand && !job && move(inHand).unattended >= RUNS_ALONE_MINUTES && ticket.running?.move !== inHand && { start: () => send({ started: inHand, minutes: move(inHand).unattended }) }),
    ...(isOpen && ticket.call.choice && ticket.signed == null && { sign: () => setOverlay({ kind: 'sign' }) }),
    ...(isOpen && ticket.signed != null && { handOver: () => setOverlay({ kind: 'handover' }) }),
    ...(isOpen && doubtful !== null && { takeBack: () => actions.undo([doubtful]) }),
    ...(stuck && { putBack: () => send({ put_back: stuck.fix }) }),
    ...(!isOpen && {
      reopen: () => reopen.mutate(),
      cameBack: () => takeIn.mutate(comingBack(ticket, initials()), { onSuccess: (again) => navigate(`/ticket/${again.id}`) }),
    }),
  }
  const targets = job ? job.targets : inHand ? move(inHand).outcomes.map((outcome) => () => actions.outcome(outcome)) : []
  const failed = append.error ?? addFile.error ?? addPicture.error ?? job?.error ?? handOver.error ?? reopen.error ?? takeIn.error
  const close = () => setOverlay(null)
  return (
    <Commands page="ticket" on={on} targets={targets} isOn={overlay === null && !job?.sheet} helps={overlay?.kind === 'help'} onHelp={(shows) => setOverlay(shows ? { kind: 'help' } : null)}>
      <DropZone onFile={takeFile}>
        <TicketHead ticket={ticket} onGate={actions.pick} onBench={actions.bench} onFacts={actions.facts} onHelp={actions.help} />
        <ToolStrip ticket={ticket} at={job ? 'job' : null} onTool={actions.tool} />
        <Panes
          label={T.ticketPanes}
          panes={[
            {
              id: 'hand', label: T.inHand, className: 'md:col-span-2 lg:order-2 lg:col-span-1',
              node: (
                <PaneBoundary>
                  <main className="px-4 py-3 xl:px-5">
                    <Prompts ticket={ticket} onUndo={actions.undo} error={failed instanceof AwayError ? null : failed} isWaiting={(append.isPending && append.failureCount > 0) || (job?.isWaiting ?? false)} dropped={addFile.data ?? null} />
                    {job ? <StepInHand work={job.work} onAnswer={job.answer} /> : isComing ? <p data-loading className="text-l text-soft">{T.loading}</p> : <InHand
                      ticket={ticket} moveId={inHand} isChosen={chosen !== null} onOutcome={actions.outcome} keysOn={overlay === null} onTried={actions.tried} onAnswer={actions.answer}
                      instrument={inHand ? instrumentOf(move(inHand)) : null}
                    />}
                  </main>
                </PaneBoundary>
              ),
            },
            job
              ? {
                  id: 'tray', label: T.tray, className: 'lg:order-3',
                  node: <PaneBoundary><TrayPane work={job.work} isClosed={!isOpen} onBack={job.back} onKnownAs={(name) => send({ fact: { known_as: name } })} onEntry={(place) => { setShowsTape(true); showEntry(place) }} /></PaneBoundary>,
                }
              : { id: 'suspects', label: T.suspects, className: 'lg:order-3', node: <PaneBoundary><Suspects ticket={ticket} onHeld={actions.held} /></PaneBoundary> },
            {
              id: 'tape', label: job && !showsTape ? T.job : T.tape, className: 'bg-sheet lg:order-1 lg:border-r lg:border-dashed lg:border-line',
              node: (
                <PaneBoundary>
                  {job && showsTape && <div className="px-4 pt-2 xl:px-5"><Do of="ticket" id="tape" label={lowerFirst(T.job)} /></div>}
                  {job && !showsTape ? <JobList work={job.work} isClosed={!isOpen} onFirst={job.first} /> : <Tape ticket={ticket} onUndo={actions.undo} />}
                </PaneBoundary>
              ),
            },
          ]}
        />
        <PaneBoundary>{job ? <JobStrip ticket={ticket} work={job.work} /> : <CallStrip ticket={ticket} />}</PaneBoundary>
      </DropZone>
      {job?.sheet}
      {overlay?.kind === 'picker' && (
        <MovePicker
          ticket={ticket} gate={overlay.gate} onClose={close}
          instrument={overlay.gate === null ? null : atGate(overlay.gate, { settings: on.settings!, sightings: on.sightings!, pages: on.pages!, surface: on.surface!, path: on.path!, ear: on.ear!, volume: on.volume!, records: on.records! })}
          onPick={(id) => { choose(id); close() }} onHeld={(held) => setOverlay({ kind: 'override', held })}
        />
      )}
      {overlay?.kind === 'override' && (
        <OverrideSheet
          held={overlay.held} onClose={close}
          onOverride={(reason) => { send({ override: overlay.held.interlock, move: overlay.held.move, reason }); choose(overlay.held.move) }}
        />
      )}
      {overlay?.kind === 'why' && <WhySheet ticket={ticket} onClose={close} onEntry={(place) => { close(); showEntry(place) }} />}
      {overlay?.kind === 'note' && (
        <NoteSheet
          error={addPicture.error} isWaiting={addPicture.isPending} onClose={close} onNote={(text) => send({ note: text })}
          onPicture={(file, says, evidence) => addPicture.mutate({ file, says, evidence, key: requestKey() }, { onSuccess: close })}
        />
      )}
      {overlay?.kind === 'ways' && inHand && (
        <WaysSheet ticket={ticket} moveId={inHand} onClose={close} onOpen={(instrument) => navigate(`/ticket/${ticket.id}/${instrument}`)} onAnswer={(entry) => send(entry)} onNote={actions.tried} />
      )}
      {overlay?.kind === 'link' && <LinkSheet ticket={ticket} onClose={() => { close(); if (search.get('sheet')) choose(null) }} />}
      {overlay?.kind === 'sign' && ticket.call.choice && (
        <SignSheet ticket={ticket} choice={ticket.call.choice} fix={ticket.call.fix} onClose={close} onSign={() => send({ signed: ticket.call.choice, fix: ticket.call.fix })} />
      )}
      {overlay?.kind === 'handover' && (
        <HandOverSheet
          ticket={ticket} onClose={close}
          onProven={(proven, waive) => handOver.mutate({ proven, waive }, { onSuccess: () => navigate('/'), onError: close })} />
      )}
      {overlay?.kind === 'facts' && (
        <FactsSheet
          ticket={ticket} onClose={() => { close(); if (search.get('sheet')) choose(null) }}
          onFact={(fact) => append.mutate({ entries: [{ fact }], key: requestKey() })} />
      )}
    </Commands>
  )
}
