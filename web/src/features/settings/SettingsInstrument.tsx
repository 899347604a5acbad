import { useEffect, useState } from 'react'
import { useLocation } from 'wouter'

import type { EntryBody, SettingRow, Ticket } from '../../api/client'
import { useAddFile, useAppend, useSettings, useTicket } from '../../api/queries'
import { useWords } from '../../api/words'
import { lowerFirst, requestKey } from '../../lib/format'
import { useHotkeys, type Hotkeys } from '../../lib/hotkeys'
import { toggleTheme } from '../../lib/theme'
import { KeyAction } from '../../ui/Key'
import { Note } from '../../ui/Note'
import { T } from '../../words'
import { TicketHead } from '../ticket'
import { DropZone } from '../ticket/DropZone'
import { useDrafts } from './drafts'
import { SettingRows } from './SettingRows'
import { SettingsAside } from './SettingsAside'
import { following, heldBack, isWrong, openTrial, pendingTrial, rowOfFix, valueName, walkToTry } from './sheet'
import { TrialPanel } from './TrialPanel'
import { WaysList } from './WaysList'

/** The settings sheet: what this system needs from the firmware against what the technician reads off the other screen. */
export function SettingsInstrument({ id }: { id: number }) {
  const { data: ticket } = useTicket(id)
  return ticket ? <OpenSettings ticket={ticket} /> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function OpenSettings({ ticket }: { ticket: Ticket }) {
  const { move } = useWords()
  const [, navigate] = useLocation()
  const [chosen, setChosen] = useState(0)
  const append = useAppend(ticket.id)
  const addFile = useAddFile(ticket.id)
  const { data: sheet, error } = useSettings(ticket)
  const send = (entry: EntryBody) => append.mutate({ entry, key: requestKey() })
  const { drafts, set, flush, settle } = useDrafts((id, value) => {
    const row = sheet?.rows.find((r) => r.id === id)
    const entry = row?.values.find((v) => v.id === value)?.entry
    if (row && entry && row.now !== value) send(entry)
    else settle([id])
  })
  // a draft is over once the sheet says the same, or the server refused it
  useEffect(() => settle((sheet?.rows ?? []).filter((r) => drafts[r.id] === r.now).map((r) => r.id)), [sheet, drafts])
  useEffect(() => { if (append.isError) settle(Object.keys(drafts)) }, [append.isError])

  const rows = sheet?.rows ?? []
  const trial = pendingTrial(ticket) ?? openTrial(ticket)
  const trialRow = trial && sheet ? rowOfFix(sheet, trial.fix) : undefined
  const walk = trial?.walk && trialRow ? sheet?.walks.find((w) => w.row === trialRow.id) : undefined
  const row = rows[chosen]
  const value = row ? drafts[row.id] ?? row.now : null
  const back = () => navigate(`/ticket/${ticket.id}`)
  const takeInHand = (id: string) => navigate(`/ticket/${ticket.id}?move=${id}`)
  const isOpen = !ticket.closed_at
  const canChange = isOpen && row !== undefined && isWrong(row, value)
  const held = canChange ? heldBack(ticket, row) : undefined
  const isTrial = row?.fix ? move(row.fix).trial : false
  const change = () => {
    if (!canChange || held || !row.fix) return
    flush()
    if (isTrial) send({ changed: row.fix, before: value, after: row.want })
    else takeInHand(row.fix)
  }
  const toWalk = sheet && isOpen && !trial ? walkToTry(ticket, sheet, drafts) : undefined
  const startWalk = () => {
    if (!toWalk) return
    flush()
    send({ changed: toWalk.fix, before: toWalk.start, after: toWalk.first, walk: true })
  }
  const putBack = () => trial && send({ put_back: trial.fix })
  const nextOfWalk = () => {
    if (!trial || !walk?.next) return
    send({ put_back: trial.fix })
    send({ changed: trial.fix, before: walk.restore, after: walk.next, walk: true })
  }
  const outcome = (said: string) => trial && send({ move: trial.fix, outcome: said })
  const setValue = (target: SettingRow, next: string) => isOpen && set(target.id, next)
  const step = (index: number, by = 1) => {
    const target = rows[index]
    if (!target) return
    setChosen(index)
    setValue(target, following(target, drafts[target.id] ?? target.now, by))
  }
  const most = rows.length || sheet?.ways.length || 0
  const keys: Hotkeys = {
    Escape: back, b: () => navigate('/'), l: toggleTheme, f: () => navigate(`/ticket/${ticket.id}?sheet=facts`), i: () => navigate(`/ticket/${ticket.id}/sightings`),
    ArrowDown: () => setChosen(Math.min(chosen + 1, most - 1)), ArrowUp: () => setChosen(Math.max(chosen - 1, 0)),
    ArrowRight: () => step(chosen), ArrowLeft: () => step(chosen, -1),
  }
  if (trial?.standing === 'pending') {
    move(trial.fix).outcomes.forEach((said, index) => { keys[String(index + 1)] = () => outcome(said) })
  } else {
    rows.forEach((_, index) => { keys[String(index + 1)] = () => step(index) })
    sheet?.ways.forEach((way, index) => { if (rows.length === 0) keys[String(index + 1)] = () => takeInHand(way.move) })
  }
  if (trial && isOpen) keys['x'] = putBack
  if (trial?.standing === 'open' && walk?.next) keys['Enter'] = nextOfWalk
  else if (canChange && !held && !trial) keys['Enter'] = change
  else if (rows.length === 0 && sheet?.ways[chosen]) keys['Enter'] = () => takeInHand(sheet.ways[chosen]!.move)
  if (toWalk) keys['t'] = startWalk
  useHotkeys(keys)

  const hasAside = rows.length > 0 || sheet?.captured != null
  const failed = error ?? append.error ?? addFile.error
  return (
    <DropZone onFile={(file) => addFile.mutate(file)}>
      <TicketHead ticket={ticket} onGate={back} onBench={() => navigate('/')} onFacts={() => navigate(`/ticket/${ticket.id}?sheet=facts`)} />
      <main aria-label={T.settingsTitle} className={`grid min-h-0 flex-1 ${hasAside ? 'grid-cols-[minmax(0,1fr)_264px]' : ''}`}>
        <div className="overflow-y-auto px-6 py-3">
          <div className="mb-2 flex items-baseline gap-4">
            <h1 className="text-xl font-bold">{sheet && rows.length === 0 ? T.noTextSetup : T.settingsTitle}</h1>
            <p className="min-w-0 flex-1 text-s text-soft">{rows.length > 0 && T.settingsHint}</p>
            <KeyAction hotkey="Esc" label={T.backToTicket} onPress={back} />
          </div>
          {failed && <div className="mb-3"><Note title={T.notKept}>{failed.message}</Note></div>}
          {append.isPending && append.failureCount > 0 && <div className="mb-3"><Note title={T.waiting} tone="ochre" /></div>}
          {trial && sheet && isOpen && (
            <TrialPanel ticket={ticket} sheet={sheet} trial={trial} onOutcome={outcome} onPutBack={putBack} onNext={walk?.next ? nextOfWalk : null} />
          )}
          {sheet && rows.length > 0 && (
            <SettingRows
              rows={rows} drafts={drafts} chosen={chosen} marked={sheet.together.filter((t) => t.kind !== 'hint').flatMap((t) => t.rows)}
              isWaiting={trial?.standing === 'pending'} onChoose={setChosen} onValue={setValue}
            />
          )}
          {sheet && rows.length === 0 && <WaysList sheet={sheet} chosen={chosen} onPick={takeInHand} />}
          <p className="mt-2 flex flex-wrap items-baseline gap-x-5">
            {canChange && !trial && (held ? (
              <span className="border-l-4 border-brick px-2 text-m">{T.heldBack}: {held.why} <span className="text-soft">{held.release}</span></span>
            ) : (
              <KeyAction hotkey="Enter" label={`${row.name}: ${isTrial ? T.changeTo(lowerFirst(valueName(row, row.want))) : T.takeInHand(lowerFirst(move(row.fix!).name))}`} onPress={change} strong />
            ))}
            {toWalk && <KeyAction hotkey="T" label={T.tryEach(lowerFirst(toWalk.name))} onPress={startWalk} />}
            {rows.length > 0 && <KeyAction hotkey="I" label={T.sightings} onPress={() => navigate(`/ticket/${ticket.id}/sightings`)} />}
          </p>
        </div>
        {hasAside && <aside className="overflow-y-auto border-l border-dashed border-line bg-sheet px-4 py-4">{sheet && <SettingsAside sheet={sheet} />}</aside>}
      </main>
    </DropZone>
  )
}
