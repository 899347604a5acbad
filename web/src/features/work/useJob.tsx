import { useState, type ReactNode } from 'react'
import { useLocation } from 'wouter'

import { AwayError, type Group, type GroupIn, type Ticket, type Work, type WorkStep } from '../../api/client'
import { useDoWork, useWork } from '../../api/workQueries'
import { requestKey } from '../../lib/format'
import type { Handlers } from '../../lib/keymap'
import { GroupSheet } from './GroupSheet'
import { LeaveOutSheet } from './LeaveOutSheet'
import { StepPicker } from './StepPicker'
import { ToldSheet } from './ToldSheet'

type JobSheet =
  | { kind: 'told'; step: WorkStep; answer: string }
  | { kind: 'leave'; step: WorkStep }
  | { kind: 'steps' }
  | { kind: 'group' }

export interface JobView {
  work: Work
  /** What the ticket page can do for the job, by its keys. */
  on: Handlers<'ticket'>
  targets: readonly (() => void)[]
  /** A sheet of the job that lies over the page, if one does. */
  sheet: ReactNode
  error: Error | null
  isWaiting: boolean
  answer: (step: WorkStep, answer: string) => void
  first: (step: string) => void
  back: (group: Group, missing: number) => void
}

/** The job of a ticket: its view, its commands, its sheets. Null while no call is signed, or until it is there. */
export function useJob(ticket: Ticket): JobView | null {
  const isOn = ticket.job != null && !ticket.closed_at
  const { data: work } = useWork(ticket, ticket.job != null)
  const change = useDoWork(ticket.id)
  const [, navigate] = useLocation()
  const [sheet, setSheet] = useState<JobSheet | null>(null)
  if (!isOn || !work || work.steps.length === 0) return null

  const close = () => { setSheet(null); change.reset() }
  const send = (place: string, json: Record<string, unknown>) => change.mutate({ place, json, key: requestKey() }, { onSuccess: () => setSheet(null) })
  const now = work.steps.find((s) => s.state === 'now')
  const answer = (step: WorkStep, id: string) => {
    if (change.isPending) return
    const own = step.answers.find((a) => a.id === id)
    if (!own || (step.held.length > 0 && own.leads === 'on')) return
    change.reset()
    if (own.asks) setSheet({ kind: 'told', step, answer: id })
    else send(`steps/${step.id}`, { answer: id })
  }
  const first = (step: string) => send(`steps/${step}/first`, {})
  const back = (group: Group, missing: number) => send(`tray/${group.entry}/back`, { missing })
  const out = work.tray.findLast((g) => !g.back)
  const opens = work.steps.some((s) => s.screen === 'tray') || work.tray.length > 0
  const isFailed = change.error && !(change.error instanceof AwayError) ? change.error : null
  const told = sheet?.kind === 'told' ? sheet : null
  return {
    work, answer, first, back, error: sheet ? null : isFailed, isWaiting: change.isPending && change.failureCount > 0,
    on: {
      ...(opens && { tray: () => setSheet({ kind: 'group' }) }),
      ...(out && { backIn: () => back(out, 0) }),
      ...(work.choice === 'replace' && { parts: () => navigate(`/ticket/${ticket.id}/parts`) }),
      ...(now && { leaveOut: () => setSheet({ kind: 'leave', step: now }) }),
      ...(work.steps.some((s) => s.state === 'later') && { else: () => setSheet({ kind: 'steps' }) }),
    },
    targets: now ? now.answers.map((a) => () => answer(now, a.id)) : [],
    sheet: sheet && (
      <>
        {told && <ToldSheet step={told.step} answer={told.answer} error={isFailed} isWaiting={change.isPending} onTold={(value) => send(`steps/${told.step.id}`, { answer: told.answer, value })} onClose={close} />}
        {sheet.kind === 'leave' && <LeaveOutSheet step={sheet.step} onLeaveOut={(reason) => send(`steps/${sheet.step.id}/waive`, { reason })} onClose={close} />}
        {sheet.kind === 'steps' && <StepPicker work={work} onPick={(step) => first(step)} onClose={close} />}
        {sheet.kind === 'group' && <GroupSheet guide={work.guide} error={isFailed} onOut={(group: GroupIn) => send('tray', { ...group })} onClose={close} />}
      </>
    ),
  }
}
