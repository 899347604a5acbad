import { useEffect, useState } from 'react'

import type { Work, WorkStep } from '../../api/client'
import { clock, minutes } from '../../lib/format'
import { TARGET_KEYS } from '../../lib/keymap'
import { Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Unblock } from '../../ui/Unblock'
import { T } from '../../words'

interface StepInHandProps {
  work: Work
  onAnswer: (step: WorkStep, answer: string) => void
}

/** Minutes until hands are wanted again; ticks, so that the prompt comes by itself. */
function useLeft(due: string | null): number | null {
  const [now, setNow] = useState(() => Date.now())
  useEffect(() => {
    if (!due) return
    const timer = setInterval(() => setNow(Date.now()), 5_000)
    return () => clearInterval(timer)
  }, [due])
  return due ? (new Date(due).getTime() - now) / 60_000 : null
}

function DueLine({ due }: { due: string }) {
  const left = useLeft(due)
  if (left === null) return null
  return <p className={`mb-2 text-m ${left <= 0 ? 'font-bold text-brick' : 'text-soft'}`}>{left > 0 ? T.stepDueAt(clock(due), minutes(left)) : T.stepOverdue(clock(due))}</p>
}

/** The step in hand: what to do, why, its guard where a blunder lives, and its answers as numbered targets. */
export function StepInHand({ work, onAnswer }: StepInHandProps) {
  const step = work.steps.find((s) => s.state === 'now')
  if (!step) {
    return (
      <section aria-label={T.inHand}>
        <h2 className="mb-1 text-s font-bold text-soft">{T.inHand}</h2>
        <h1 className="text-xl font-bold md:text-xxl">{T.jobDone}</h1>
        <p className="mt-2 max-w-[62ch] text-l text-soft">{T.jobDoneHint}</p>
        <div className="mt-4 flex flex-wrap gap-x-5"><Do of="ticket" id="handOver" strong /><Do of="ticket" id="papers" strong /><Do of="ticket" id="note" /><Do of="ticket" id="undo" /></div>
      </section>
    )
  }
  return (
    <section aria-label={T.inHand}>
      <h2 className="text-s font-bold text-soft">{T.inHand} · {work.phases[step.phase]}</h2>
      <h1 className="mb-1 text-xl font-bold md:text-xxl">{step.name}</h1>
      <p className="mb-1.5 max-w-[62ch] text-m md:text-l">{step.do} <span className="text-soft">{step.why}</span></p>
      <p className="mb-3 flex flex-wrap gap-x-5 text-m text-soft">
        <span>{minutes(step.minutes)} {T.handsOn}</span>
        {step.wants.length > 0 && <span>{T.needsFirst} {step.wants.map((w) => T.wants[w]).join(', ')}</span>}
        {step.tries > 0 && <span className="text-ochre-ink">{T.stepTries(step.tries)}</span>}
      </p>
      {step.due_at && <DueLine due={step.due_at} />}
      {step.held.map((held) => <div key={held.interlock} className="mb-3"><Note title={`${T.stepWaits}: ${held.why}`} tone="ochre">{held.release} <Unblock of="ticket" interlock={held.interlock} /></Note></div>)}
      <div className="grid gap-2 sm:grid-cols-2">
        {step.answers.map((answer, index) => (
          <button
            key={answer.id} type="button" data-answer={answer.id} onClick={() => onAnswer(step, answer.id)} disabled={step.held.length > 0 && answer.leads === 'on'}
            className="flex min-h-14 items-center gap-3 rounded-lg border border-line bg-sheet px-3.5 py-1 disabled:opacity-50 xl:min-h-16"
          >
            <span className="w-5 shrink-0 text-center text-xl text-indigo">{TARGET_KEYS[index]}</span>
            <span className="min-w-0 text-l leading-6">{answer.say}{answer.asks && <span aria-hidden className="text-soft"> …</span>}</span>
          </button>
        ))}
      </div>
      {(step.guard || step.hints.length > 0) && (
        <div className="mt-3 border-l-4 border-pine bg-sheet px-3 py-2 text-m" data-guard>
          {step.guard && <p className="font-semibold">{step.guard}</p>}
          {step.hints.map((hint) => <p key={hint}>{hint}</p>)}
        </div>
      )}
      <div className="mt-2 flex flex-wrap items-center gap-x-5 gap-y-1 text-m text-soft">
        {step.screen === 'parts' && <Do of="ticket" id="parts" strong />}
        {step.screen === 'settings' && <Do of="ticket" id="settings" strong />}
        {step.screen === 'link' && <Do of="ticket" id="link" strong />}
        {(step.id === 'rebuild' || step.id === 'way-back') && work.fix !== 'repair-volume' && <Do of="ticket" id="path" strong label={T.openTool(T.tools.path)} />}
        {work.fix === 'repair-volume' && ['run', 'run-through', 'way-back'].includes(step.id) && <Do of="ticket" id="volume" strong label={T.openTool(T.tools.volume)} />}
        {step.id === 'copy' && <><Do of="ticket" id="volume" strong label={T.openTool(T.tools.volume)} /><Do of="ticket" id="surface" strong label={T.openTool(T.tools.surface)} /></>}
        <Do of="ticket" id="tray" />
        <Do of="ticket" id="else" />
        <Do of="ticket" id="leaveOut" />
        <Do of="ticket" id="note" />
        <Do of="ticket" id="undo" />
      </div>
    </section>
  )
}
