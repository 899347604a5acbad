import type { BenchRow as Row, LinkRow } from '../../api/client'
import { useWords } from '../../api/words'
import { clock, lowerFirst, minutes, percent, upperFirst } from '../../lib/format'
import { useProgress } from '../../lib/running'
import { factValue, T } from '../../words'
import { BootLine } from '../line/BootLine'
import { leadingGate } from '../line/geometry'
import { LINE_WIDTH } from './columns'

function RunningNote({ row }: { row: Row }) {
  const { move } = useWords()
  const progress = useProgress(row.running)
  if (!row.running) return null
  const isThrough = progress !== null && progress.minutesLeft <= 0
  return (
    <>
      <div className="text-l font-semibold">
        {move(row.running.move).name}
        {progress && !isThrough && `, ${percent(progress.share)}`}
      </div>
      {progress && (
        <div className="my-1.5 h-1.5 rounded-full bg-hair">
          <div className="h-full rounded-full bg-ink moves" style={{ width: `${progress.share * 100}%` }} />
        </div>
      )}
      <div className="text-m text-soft">
        {progress ? (isThrough ? T.overdue : `${minutes(progress.minutesLeft)} ${T.left}`) : ''}
      </div>
    </>
  )
}

/** What the probe does for hours: how far, how long, and what is in its way. */
function WorkNote({ link }: { link: LinkRow }) {
  const share = link.of > 0 ? link.done / link.of : 0
  const trouble = link.paused ? `${T.readPaused}, ${link.paused}` : link.state === 'away' ? T.goesOnAlone : link.stalls ? T.workStalls : link.hot ? T.workHot : ''
  return (
    <>
      <div className="text-l font-semibold">{upperFirst(T.orderNames[link.work] ?? link.work)}{link.of > 0 && `, ${percent(share)}`}</div>
      {link.of > 0 && <div className="my-1.5 h-1.5 rounded-full bg-hair"><div className="h-full rounded-full bg-ink moves" style={{ width: `${share * 100}%` }} /></div>}
      <div className={`text-m ${trouble ? 'font-semibold text-ochre-ink' : 'text-soft'}`}>
        {trouble || (link.minutes_left !== null && link.minutes_left !== undefined && link.minutes_left > 0 ? `${minutes(link.minutes_left)} ${T.left}` : link.text)}
      </div>
    </>
  )
}

/** A signed call being carried out: the step in hand, or until when it runs on its own. */
function JobNote({ job }: { job: NonNullable<Row['job']> }) {
  const progress = useProgress(job.due_at ? { move: '', started_at: new Date(new Date(job.due_at).getTime() - 60_000).toISOString(), minutes: 1 } : null)
  const waits = progress !== null && progress.minutesLeft > 0
  return (
    <>
      <div className={`text-l font-semibold leading-6 ${job.due_at && !waits ? 'text-brick' : ''}`}>{job.step_name}</div>
      <div className="text-m text-soft">
        {job.waits ? lowerFirst(job.waits) : job.due_at ? (waits ? `${minutes(progress.minutesLeft)} ${T.left}` : T.stepOverdue(clock(job.due_at))) : `${T.jobTurns(job.done, job.of)} · ${minutes(job.minutes_left)} ${T.left}`}
        {job.lies_out > 0 && ` · ${T.trayScrews(job.lies_out)}`}
      </div>
    </>
  )
}

function Todo({ row }: { row: Row }) {
  const { move, words } = useWords()
  if (row.link?.work || row.link?.paused) return <WorkNote link={row.link} />
  if (row.running) return <RunningNote row={row} />
  if (row.job?.step) return <JobNote job={row.job} />
  if (row.signed) {
    return (
      <>
        <div className="text-l font-semibold">{T.readyToHandOver}</div>
        <div className="text-m text-soft">{T.callSigned}: {words.call_names[row.signed]}</div>
      </>
    )
  }
  if (row.broken) return <><div className="text-l font-semibold text-brick">{T.brokenTicket}</div><div className="line-clamp-2 text-s text-soft">{row.broken}</div></>
  if (!row.next_move) return <div className="text-l font-semibold">{T.nothingLeft}</div>
  return (
    <>
      <div className={`text-l font-semibold leading-6 ${row.urgent ? 'text-brick' : ''}`}>{move(row.next_move).name}</div>
      <div className="line-clamp-2 text-m text-soft">
        {row.next_why.replace(/\.$/, '') || (row.open_trials > 0 ? T.onTrialAsk : '')}
        {!row.urgent && row.next_minutes ? ` · ${minutes(row.next_minutes)}` : ''}
      </div>
      {row.open_trials > 0 && <div className="text-m font-semibold text-ochre-ink">{T.openTrials(row.open_trials)}</div>}
    </>
  )
}

/** A machine that is linked says so, and how far its reading is. */
function LinkNote({ link }: { link: LinkRow }) {
  const isOn = link.state === 'linked'
  return (
    <span className={isOn ? 'font-semibold text-pine' : 'text-ochre-ink'}>
      {isOn ? '⇄' : '⇥'} {T.linkStates[link.state]}{isOn && link.of > 0 && ` · ${T.linkDone(link.done, link.of)}`}
    </span>
  )
}

/** One machine as one line: where it stands, and the one thing to do or to wait for. On a narrow screen the line lies under the words. */
export function BenchRow({ row, onOpen }: { row: Row; onOpen: () => void }) {
  const { words } = useWords()
  const states = row.gates.map((g, i) => `${words.gates[i]?.name} ${g.state}`).join(', ')
  const isHands = row.turn === 'hands'
  const facts = [row.facts['form'], row.facts['drive_kind']].filter(Boolean).map((value) => factValue(value))
  if (row.facts['drive_year']) facts.push(String(row.facts['drive_year']))
  const leading = leadingGate(row.gates)
  return (
    <button
      type="button" data-bench-row onClick={onOpen}
      className={`flex w-full flex-wrap items-start gap-x-3 border-b border-l-[6px] border-b-hair py-1 pr-3 lg:flex-nowrap lg:items-center lg:py-px lg:pr-7 ${isHands ? 'border-l-indigo bg-sheet' : 'border-l-transparent'} focus-visible:outline-offset-[-3px]`}
    >
      <span className={`w-9 shrink-0 text-center text-xl lg:w-[56px] lg:text-xxl ${isHands ? 'font-bold text-indigo' : 'text-soft'}`}>{row.bay ?? '·'}</span>
      <span className="min-w-0 flex-1 overflow-hidden lg:w-[180px] lg:flex-none xl:w-[244px]">
        <span className="block truncate text-l font-semibold">{row.machine}</span>
        <span className="block truncate text-s text-soft">{row.customer}</span>
        <span className="block truncate text-s text-soft">{row.link ? <LinkNote link={row.link} /> : facts.join(' · ') || (row.bay === null ? T.shelf : '')}</span>
        {leading !== null && <span className="block truncate text-m font-semibold lg:hidden">{words.gates[leading]?.name}</span>}
      </span>
      <span className="order-last w-full pl-9 lg:order-none lg:w-auto lg:min-w-0 lg:max-w-[640px] lg:flex-[3] lg:pl-0"><BootLine gates={row.gates} width={LINE_WIDTH} started={row.started} label={states} /></span>
      <span className="min-w-0 flex-1 lg:min-w-[200px]"><Todo row={row} /></span>
    </button>
  )
}
