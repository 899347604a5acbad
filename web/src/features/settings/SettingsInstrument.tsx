import { useEffect, useState } from 'react'
import { useLocation } from 'wouter'

import type { EntryBody, SettingRow, Ticket } from '../../api/client'
import { useAddFile, useAppend, useSettings, useTicket } from '../../api/queries'
import { useWords } from '../../api/words'
import { lowerFirst, requestKey } from '../../lib/format'
import { shifted, type Handlers } from '../../lib/keymap'
import { Do } from '../../ui/Commands'
import { KeyWanted } from '../../ui/KeyWanted'
import { T } from '../../words'
import { InstrumentFrame } from '../instrument'
import { useDrafts } from './drafts'
import { SettingRows } from './SettingRows'
import { SettingsAside } from './SettingsAside'
import { following, heldBack, isWrong, nextOfWalk, openTrial, pendingTrial, rowOfFix, valueName, walkToTry } from './sheet'
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
  const send = (...entries: EntryBody[]) => append.mutate({ entries, key: requestKey() })
  const { drafts, set, flush, settle } = useDrafts((id, value) => {
    const row = sheet?.rows.find((r) => r.id === id)
    const entry = row?.values.find((v) => v.id === value)?.entry
    if (row && entry && row.now !== value) send(entry)
    else settle([id])
  })
  // a draft is over once the sheet says the same, or the server refused it
  useEffect(() => settle((sheet?.rows ?? []).filter((r) => drafts[r.id] === r.now).map((r) => r.id)), [sheet, drafts, settle])
  useEffect(() => { if (append.isError) settle(Object.keys(drafts)) }, [append.isError, drafts, settle])

  const rows = sheet?.rows ?? []
  const trial = pendingTrial(ticket) ?? openTrial(ticket)
  const trialRow = trial && sheet ? rowOfFix(sheet, trial.fix) : undefined
  const walk = trial?.walk && trialRow ? sheet?.walks.find((w) => w.row === trialRow.id) : undefined
  const row = rows[chosen]
  const value = row ? drafts[row.id] ?? row.now : null
  const takeInHand = (id: string) => navigate(`/ticket/${ticket.id}?move=${id}`)
  const isOpen = !ticket.closed_at
  const canChange = isOpen && row !== undefined && isWrong(row, value) && !trial
  const held = canChange ? heldBack(ticket, row) : undefined
  const isTrial = row?.fix ? move(row.fix).trial : false
  const toWalk = sheet && isOpen && !trial ? walkToTry(ticket, sheet, drafts) : undefined
  const outcome = (said: string) => trial && send({ move: trial.fix, outcome: said })
  const setValue = (target: SettingRow, next: string) => isOpen && set(target.id, next)
  const step = (index: number, by = 1) => {
    const target = rows[index]
    if (!target) return
    setChosen(index)
    setValue(target, following(target, drafts[target.id] ?? target.now, by))
  }
  const change = () => {
    if (!row?.fix) return
    flush()
    if (isTrial) send({ changed: row.fix, before: value, after: row.want })
    else takeInHand(row.fix)
  }
  const way = rows.length === 0 ? sheet?.ways[chosen] : undefined
  const goOn = nextOfWalk(trial, walk)
  const most = rows.length || sheet?.ways.length || 0
  const on: Handlers<'settings'> = {
    down: () => setChosen(Math.min(chosen + 1, most - 1)), up: () => setChosen(Math.max(chosen - 1, 0)),
    ...(row && { next: () => step(chosen), before: () => step(chosen, -1) }),
    ...(goOn ? { change: () => send(...goOn) } : canChange && !held ? { change } : way ? { change: () => takeInHand(way.move) } : {}),
    ...(trial && isOpen && { putBack: () => send({ put_back: trial.fix }) }),
    ...(toWalk && { walk: () => { flush(); send({ changed: toWalk.fix, before: toWalk.start, after: toWalk.first, walk: true }) } }),
  }
  const targets = trial?.standing === 'pending'
    ? shifted(move(trial.fix).outcomes.map((said) => () => outcome(said)), rows.map((_, index) => () => step(index)))
    : rows.length > 0 ? rows.map((_, index) => () => step(index)) : (sheet?.ways ?? []).map((w) => () => takeInHand(w.move))
  const hasAside = rows.length > 0 || sheet?.captured != null
  const hasNoText = sheet !== undefined && rows.length === 0
  return (
    <InstrumentFrame
      page="settings" ticket={ticket} title={hasNoText ? T.noTextSetup : T.settingsTitle} reading={rows.length > 0 && T.settingsHint} on={on} targets={targets}
      error={error ?? append.error ?? addFile.error} isWaiting={append.isPending && append.failureCount > 0} onFile={(file) => addFile.mutate(file)}
      aside={hasAside && sheet && <SettingsAside sheet={sheet} />}
    >
      {trial && sheet && isOpen && <TrialPanel ticket={ticket} sheet={sheet} trial={trial} onOutcome={outcome} />}
      {sheet && rows.length > 0 && (
        <SettingRows
          rows={rows} drafts={drafts} chosen={chosen} marked={sheet.together.filter((t) => t.kind !== 'hint').flatMap((t) => t.rows)}
          isWaiting={trial?.standing === 'pending'} onChoose={setChosen} onValue={setValue}
        />
      )}
      {hasNoText && <WaysList sheet={sheet} chosen={chosen} onPick={takeInHand} />}
      <p className="mt-2 flex flex-wrap items-baseline gap-x-5">
        {canChange && held && <span className="border-l-4 border-brick px-2 text-m">{T.heldBack}: {held.why} <span className="text-soft">{held.release}</span>{held.interlock === 'locked-volume' && <KeyWanted ticket={ticket.id} />}</span>}
        {canChange && !held && <Do of="settings" id="change" label={`${row.name}: ${isTrial ? T.changeTo(lowerFirst(valueName(row, row.want))) : T.takeInHand(lowerFirst(move(row.fix!).name))}`} strong />}
        {toWalk && <Do of="settings" id="walk" label={T.tryEach(lowerFirst(toWalk.name))} />}
      </p>
    </InstrumentFrame>
  )
}
