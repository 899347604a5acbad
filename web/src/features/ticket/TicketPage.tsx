import { useState } from 'react'
import { useLocation, useSearchParams } from 'wouter'

import { AwayError, type EntryBody, type Held, type Ticket } from '../../api/client'
import { useAddFile, useAppend, useHandOver, useReopen, useTakeIn, useTicket } from '../../api/queries'
import { initials } from '../../lib/person'
import { useWords } from '../../api/words'
import { requestKey } from '../../lib/format'
import { TARGET_KEYS, useHotkeys, type Hotkeys } from '../../lib/hotkeys'
import { useStable } from '../../lib/stable'
import { toggleTheme } from '../../lib/theme'
import { Note } from '../../ui/Note'
import { PaneBoundary } from '../../ui/PaneBoundary'
import { T } from '../../words'
import { LinkSheet } from '../link'
import { CallStrip } from './CallStrip'
import { comingBack } from './handover'
import { DropZone } from './DropZone'
import { FactsSheet } from './FactsSheet'
import { HandOverSheet } from './HandOverSheet'
import { InHand } from './InHand'
import { MovePicker } from './MovePicker'
import { OverrideSheet } from './OverrideSheet'
import { Prompts } from './Prompts'
import { Suspects } from './Suspects'
import { Tape, showEntry } from './Tape'
import { TicketHead } from './TicketHead'
import { atGate, instrumentOf } from './instruments'
import { WhySheet } from './WhySheet'

type Overlay =
  | { kind: 'picker'; gate: string | null }
  | { kind: 'override'; held: Held }
  | { kind: 'facts' }
  | { kind: 'why' }
  | { kind: 'handover' }
  | { kind: 'link' }

export function TicketPage({ id }: { id: number }) {
  const { data, error } = useTicket(id)
  if (data) return <OpenTicket ticket={data} />
  return <div className="p-8">{error ? <Note title={T.notKept}>{error.message}</Note> : <p className="text-l text-soft">{T.loading}</p>}</div>
}

/** The last entry that an undo would take back. */
function lastStanding(ticket: Ticket): number | null {
  const standing = ticket.tape.filter((e) => e.stands && !('undo' in e.body))
  return standing.at(-1)?.place ?? null
}

function OpenTicket({ ticket }: { ticket: Ticket }) {
  const { move } = useWords()
  const [, navigate] = useLocation()
  const [search, setSearch] = useSearchParams()
  const [overlay, setOverlay] = useState<Overlay | null>(search.get('sheet') === 'facts' ? { kind: 'facts' } : null)
  const append = useAppend(ticket.id)
  const addFile = useAddFile(ticket.id)
  const handOver = useHandOver(ticket.id)
  const reopen = useReopen(ticket.id)
  const takeIn = useTakeIn()
  const chosen = search.get('move')
  const onTrial = ticket.trials.findLast((t) => t.standing === 'pending')
  const recommended = ticket.running?.move ?? onTrial?.fix ?? ticket.next[0]?.move ?? null
  const inHand = ticket.closed_at ? null : chosen ?? recommended

  const choose = (next: string | null) => setSearch(next ? { move: next } : {}, { replace: true })
  const send = (entry: EntryBody) => {
    append.mutate({ entry, key: requestKey() })
    choose(null)
    setOverlay(null)
  }
  const stuck = ticket.trials.findLast((t) => t.standing === 'open' || t.standing === 'pending')
  const instrument = inHand ? instrumentOf(move(inHand)) : null
  const actions = useStable({
    undo: (place: number) => send({ undo: place }),
    outcome: (outcome: string) => inHand && send({ move: inHand, outcome }),
    start: () => inHand && send({ started: inHand, minutes: move(inHand).unattended }),
    sign: () => ticket.call.choice && send({ signed: ticket.call.choice, fix: ticket.call.fix }),
    handOver: () => setOverlay({ kind: 'handover' }),
    reopen: () => reopen.mutate(),
    cameBack: () => takeIn.mutate(comingBack(ticket, initials()), { onSuccess: (again) => navigate(`/ticket/${again.id}`) }),
    why: () => setOverlay({ kind: 'why' }),
    call: () => navigate(`/ticket/${ticket.id}/call`),
    putBack: (fix: string) => send({ put_back: fix }),
    facts: () => setOverlay({ kind: 'facts' }),
    pages: () => navigate(`/ticket/${ticket.id}/pages`),
    settings: () => navigate(`/ticket/${ticket.id}/settings`),
    sightings: () => navigate(`/ticket/${ticket.id}/sightings`),
    link: () => setOverlay({ kind: 'link' }),
    tried: (entry: EntryBody) => append.mutate({ entry, key: requestKey() }),
    pick: (gate: string | null) => setOverlay({ kind: 'picker', gate }),
    gate: (gate: string) => setOverlay({ kind: 'picker', gate }),
    held: () => setOverlay({ kind: 'picker', gate: null }),
    bench: () => navigate('/'),
  })
  const keys: Hotkeys = {
    b: actions.bench, e: () => actions.pick(null), '/': () => actions.pick(null), f: actions.facts, p: actions.pages, t: actions.settings, i: actions.sightings, y: actions.link, w: actions.why, c: actions.call, l: toggleTheme,
    u: () => { const place = lastStanding(ticket); if (place !== null) actions.undo(place) }, Escape: () => (chosen ? choose(null) : actions.bench()),
  }
  if (inHand && move(inHand).unattended >= 10 && ticket.running?.move !== inHand) keys['r'] = actions.start
  if (ticket.call.choice && ticket.signed == null) keys['s'] = actions.sign
  if (ticket.signed != null && !ticket.closed_at) keys['h'] = actions.handOver
  if (ticket.closed_at) {
    keys['o'] = actions.reopen
    keys['n'] = actions.cameBack
  }
  if (stuck) keys['x'] = () => actions.putBack(stuck.fix)
  if (inHand) {
    for (const [index, outcome] of move(inHand).outcomes.entries()) {
      const key = TARGET_KEYS[index]
      if (key) keys[key] = () => actions.outcome(outcome)
    }
  }
  useHotkeys(keys, overlay === null)

  const failed = append.error ?? addFile.error ?? handOver.error ?? reopen.error ?? takeIn.error
  return (
    <DropZone onFile={(file) => addFile.mutate(file)}>
      <TicketHead ticket={ticket} onGate={actions.gate} onBench={actions.bench} onFacts={actions.facts} />
      <div className="grid min-h-0 flex-1 grid-cols-[220px_minmax(0,1fr)_260px] xl:grid-cols-[268px_minmax(0,1fr)_320px]">
        <PaneBoundary><Tape ticket={ticket} onUndo={actions.undo} /></PaneBoundary>
        <PaneBoundary>
          <main className="overflow-y-auto px-5 py-4">
            <Prompts
              ticket={ticket} onLink={actions.link} error={failed instanceof AwayError ? null : failed} isWaiting={append.isPending && append.failureCount > 0}
              dropped={addFile.data ?? null} onPutBack={actions.putBack} onFacts={actions.facts} onPages={actions.pages}
            />
            <InHand
              ticket={ticket} moveId={inHand} isChosen={chosen !== null} onOutcome={actions.outcome}
              onElse={() => actions.pick(null)} onStart={actions.start} keysOn={overlay === null} onTried={actions.tried}
              instrument={instrument && { hotkey: instrument.hotkey, label: instrument.label, open: actions[instrument.opens] }}
            />
          </main>
        </PaneBoundary>
        <PaneBoundary><Suspects ticket={ticket} onHeld={actions.held} onWhy={actions.why} /></PaneBoundary>
      </div>
      <PaneBoundary><CallStrip ticket={ticket} onSign={actions.sign} onHandOver={actions.handOver} onSheet={actions.call} onReopen={actions.reopen} onCameBack={actions.cameBack} /></PaneBoundary>
      {overlay?.kind === 'picker' && (
        <MovePicker
          ticket={ticket} gate={overlay.gate} onClose={() => setOverlay(null)}
          instrument={overlay.gate === null ? null : atGate(overlay.gate, actions)}
          onPick={(id) => { choose(id); setOverlay(null) }} onHeld={(held) => setOverlay({ kind: 'override', held })}
        />
      )}
      {overlay?.kind === 'override' && (
        <OverrideSheet
          held={overlay.held} onClose={() => setOverlay(null)}
          onOverride={(reason) => { send({ override: overlay.held.interlock, move: overlay.held.move, reason }); choose(overlay.held.move) }}
        />
      )}
      {overlay?.kind === 'why' && (
        <WhySheet ticket={ticket} onClose={() => setOverlay(null)} onEntry={(place) => { setOverlay(null); showEntry(place) }} />
      )}
      {overlay?.kind === 'link' && <LinkSheet ticket={ticket} onClose={() => setOverlay(null)} />}
      {overlay?.kind === 'handover' && (
        <HandOverSheet
          ticket={ticket} onClose={() => setOverlay(null)}
          onProven={(proven) => handOver.mutate(proven, { onSuccess: () => navigate('/'), onError: () => setOverlay(null) })} />
      )}
      {overlay?.kind === 'facts' && (
        <FactsSheet
          ticket={ticket} onClose={() => { setOverlay(null); if (search.get('sheet')) choose(null) }}
          onFact={(fact) => append.mutate({ entry: { fact }, key: requestKey() })} />
      )}
    </DropZone>
  )
}
