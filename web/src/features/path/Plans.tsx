import type { Mend, Path, PathPlan } from '../../api/pathQueries'
import { bytes, clock } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'

const pairs = (hex: string): string => hex.match(/../g)?.join(' ') ?? ''

interface PlansProps { path: Path; chosen: PathPlan | null; isArmed: boolean; onPick: (id: string) => void }

/** What can be mended: each plan with its reason and doubts; the chosen one as before and after. */
export function Plans({ path, chosen, isArmed, onPick }: PlansProps) {
  if (path.plans.length === 0 && path.mends.length === 0 && !path.searches) return null
  return (
    <section className="mt-4" aria-label={T.pathPlans} data-plans>
      {(path.plans.length > 0 || path.searches) && <h2 className="text-l font-bold">{T.pathPlans}</h2>}
      {path.searches && <p className="text-m text-soft">{T.pathSearches}</p>}
      <ol className="mt-1">
        {path.plans.map((plan, index) => (
          <li key={plan.id} className={`border-l-[5px] py-1.5 pl-3 ${plan === chosen ? 'border-indigo bg-sheet' : 'border-line'}`}>
            <button type="button" aria-expanded={plan === chosen} onClick={() => onPick(plan.id)} className="touch flex min-h-10 w-full items-baseline gap-3 text-left">
              <span className="text-l font-bold text-indigo">{index + 1}</span>
              <span className="min-w-0"><strong className="text-m">{plan.what}</strong> <span className="text-s text-soft">{plan.boots_after ? T.pathBootsAfter : T.pathNotAlone}</span></span>
            </button>
            {plan === chosen && <Chosen plan={plan} isArmed={isArmed} />}
          </li>
        ))}
      </ol>
      <Mends mends={path.mends} />
    </section>
  )
}

function Chosen({ plan, isArmed }: { plan: PathPlan; isArmed: boolean }) {
  return (
    <div className="pb-1 pr-2">
      <p className="text-m">{plan.why}</p>
      {plan.doubts.map((doubt) => <p key={doubt} className="text-m"><span className="font-bold text-ochre">{T.pathDoubt}</span> {doubt}</p>)}
      {plan.held ? <p className="mt-1 border-l-4 border-brick bg-paper px-3 py-1.5 text-m"><strong>{T.pathHeld}</strong>: {plan.held} <Do of="path" id="facts" label={T.unblockFacts} /><Do of="path" id="surface" label={T.unblockCopy} /></p> : !isArmed && <div className="mt-1 flex flex-wrap gap-x-5"><Do of="path" id="mend" strong /></div>}
      <ul className="mt-2 max-h-56 overflow-auto font-mono text-s" tabIndex={0}>
        {plan.writes.map((w) => (
          <li key={`${w.at} ${w.field}`} className="mb-1">
            <span className="font-sans text-soft">{w.at === null ? T.pathVariable(w.field, w.length) : T.pathWrite(w.field, w.at.toLocaleString('en'), w.length.toLocaleString('en'))}{w.skipped > 0 && ` ${T.pathFrom(w.skipped)}`}</span>
            <div><span className="inline-block w-14 font-sans text-soft">{T.pathBefore}</span>{pairs(w.before)}</div>
            <div><span className="inline-block w-14 font-sans text-soft">{T.pathAfter}</span><strong>{pairs(w.after)}</strong></div>
          </li>
        ))}
      </ul>
    </div>
  )
}

/** What was written through the link, newest first, and what was taken back. */
function Mends({ mends }: { mends: Mend[] }) {
  if (mends.length === 0) return null
  return (
    <div className="mt-3" data-mends>
      <h2 className="text-m font-bold">{T.pathWritten}</h2>
      <ul>
        {mends.map((m) => (
          <li key={m.order} className="py-0.5 text-m" data-mend={m.state}>
            <span className="text-soft">{T.atBy(clock(m.at), m.by)}</span> {m.reverts === null ? m.what : T.pathTookBack(m.what)} · {T.mendStates[m.state] ?? m.state}{m.taken_back && `, ${T.pathTakenBack}`} · {bytes(m.size)}{m.detail && ` · ${m.detail}`}
          </li>
        ))}
      </ul>
    </div>
  )
}
