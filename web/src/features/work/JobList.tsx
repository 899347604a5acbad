import { useEffect, useRef } from 'react'

import type { Work, WorkStep } from '../../api/client'
import { clock, lowerFirst, minutes } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'

interface JobListProps {
  work: Work
  isClosed: boolean
  onFirst: (step: string) => void
}

function StepLine({ step, isClosed, onFirst }: { step: WorkStep; isClosed: boolean; onFirst: (step: string) => void }) {
  const said = step.answers.find((a) => a.id === step.answer)
  const isNow = step.state === 'now'
  const line = useRef<HTMLLIElement>(null)
  useEffect(() => {
    const pane = line.current?.closest<HTMLElement>('[data-pane]')
    // only where the list scrolls in a pane of its own: elsewhere it would take the page from under the hands
    if (isNow && pane && line.current && getComputedStyle(pane).overflowY === 'auto') pane.scrollTop = Math.max(0, line.current.offsetTop - pane.offsetTop - pane.clientHeight * 0.55)
  }, [isNow])
  return (
    <li ref={line} aria-current={isNow ? 'step' : undefined} data-step={step.id} data-state={step.state} className="flex gap-2 border-b border-hair py-2 text-m">
      <span className="w-11 shrink-0 text-s text-soft">{isNow ? <strong className="text-ink">{T.stepNow}</strong> : step.state === 'later' ? '' : step.said_at && clock(step.said_at)}</span>
      <span className={`min-w-0 flex-1 ${isNow ? 'font-bold' : step.state === 'later' ? 'text-soft' : ''}`}>
        {step.name}
        {step.state === 'done' && said && <span className="block break-words text-s text-soft">{said.say}{step.value != null && step.value !== '' && `: ${step.value}`}</span>}
        {step.state === 'waived' && <span className="block text-s text-ochre-ink">{T.waived}</span>}
        {step.may_lead && !isClosed && (
          <button type="button" onClick={() => onFirst(step.id)} aria-label={`${T.stepFirst}: ${step.name}`} className="touch block min-h-8 text-s text-indigo">{T.stepFirst}</button>
        )}
      </span>
      {step.state === 'done' && <span className="text-pine" aria-hidden>✓</span>}
    </li>
  )
}

/** The steps of the job: what was done and when, what is in hand, what comes. */
export function JobList({ work, isClosed, onFirst }: JobListProps) {
  return (
    <section aria-label={T.job} className="px-4 py-3 xl:px-5 xl:py-4">
      <h2 className="sticky top-0 flex flex-wrap justify-between gap-x-2 bg-sheet py-1 text-s text-soft">
        <strong className="text-ink">{T.job}</strong>
        <span>{T.jobProgress(work.done, work.steps.length, minutes(work.minutes_left))}</span>
      </h2>
      <p className="mb-1 flex flex-wrap items-baseline justify-between gap-x-2 text-s text-soft">{work.name}<Do of="ticket" id="tape" label={lowerFirst(T.tape)} /></p>
      <ol>{work.steps.map((step) => <StepLine key={step.id} step={step} isClosed={isClosed} onFirst={onFirst} />)}</ol>
    </section>
  )
}
