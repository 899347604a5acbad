import type { Group, Work } from '../../api/client'
import { lowerFirst, minutes } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { Nine, Screws } from './nine'
import { ProofList } from './ProofList'

interface TrayPaneProps {
  work: Work
  isClosed: boolean
  onBack: (group: Group, missing: number) => void
  onKnownAs: (name: string) => void
  onEntry: (place: number) => void
}

function GroupRow({ group, isNext, isClosed, onBack }: { group: Group; isNext: boolean; isClosed: boolean; onBack: TrayPaneProps['onBack'] }) {
  const what = group.what === 'screw' ? `${group.count} ${T.outKinds['screw']}` : T.outKinds[group.what]
  return (
    <li className="border-b border-hair py-2" data-group={group.entry}>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
        <div className="min-w-0 flex-1">
          <div className="text-m font-semibold">{group.name}</div>
          <div className="text-s text-soft">{[what, group.kind].filter(Boolean).join(', ')}</div>
        </div>
        <Nine fields={group.fields} />
        {group.what === 'screw' && <div className="w-full overflow-hidden"><Screws count={group.count} kind={group.kind} /></div>}
      </div>
      {isNext && !isClosed && (
        <div className="flex flex-wrap gap-x-4">
          <Do of="ticket" id="backIn" label={T.trayBackIn(group.name)} strong />
          {group.what === 'screw' && <button type="button" onClick={() => onBack(group, 1)} className="touch min-h-9 px-1 text-indigo">{T.trayMissing}</button>}
        </div>
      )}
    </li>
  )
}

function GuideLine({ work, onKnownAs }: { work: Work; onKnownAs: (name: string) => void }) {
  const guide = work.guide
  return (
    <div className="mt-3 text-s text-soft">
      {guide.known_as && (
        <p className="mb-2 border-l-4 border-ochre bg-paper px-2 py-1 text-m text-ink">
          {T.guideKnownAs(guide.known_as)} <button type="button" onClick={() => onKnownAs(guide.known_as!)} className="touch min-h-9 font-semibold text-indigo">{T.guideYes}</button>
        </p>
      )}
      {guide.level ? (
        <>
          <p>{T.guideLearned(guide.level, guide.machines, guide.minutes ? minutes(guide.minutes) : '', guide.first_minutes && guide.minutes && guide.first_minutes > guide.minutes ? minutes(guide.first_minutes) : '')}</p>
          {guide.next && <p className="mt-1 text-ink">{T.guideNext}: <strong>{lowerFirst(guide.next.name)}</strong>, {guide.next.count}</p>}
        </>
      ) : guide.general.length > 0 && (
        <>
          <p className="font-semibold">{T.guideGeneral}</p>
          <ul className="list-disc pl-4">{guide.general.map((line) => <li key={line}>{line}</li>)}</ul>
        </>
      )}
    </div>
  )
}

/** What lies out, last out first, with where it was; below it what is proven. */
export function TrayPane({ work, isClosed, onBack, onKnownAs, onEntry }: TrayPaneProps) {
  const out = work.tray.filter((g) => !g.back).reverse()
  const back = work.tray.filter((g) => g.back)
  const opens = work.tray.length > 0 || work.steps.some((s) => s.screen === 'tray')
  return (
    <section aria-label={T.tray} className="px-4 py-3 xl:px-5">
      {opens && (
        <>
          <h2 className="flex flex-wrap items-baseline justify-between gap-x-3 border-b border-hair pb-1 text-s text-soft">
            <span><strong className="text-ink">{T.tray}</strong> · {T.trayHint}</span>
            <span>{work.lies_out > 0 && T.trayScrews(work.lies_out)}</span>
          </h2>
          {out.length === 0 && <p className="py-2 text-m text-soft">{T.trayEmpty}</p>}
          <ol>{out.map((group, index) => <GroupRow key={group.entry} group={group} isNext={index === 0} isClosed={isClosed} onBack={onBack} />)}</ol>
          {back.length > 0 && <p className="py-2 text-s text-soft">{T.trayIsBack(back.length)}{back.some((g) => g.missing > 0) && <strong className="text-brick"> · {T.trayMissingOf(back.reduce((n, g) => n + g.missing, 0))}</strong>}</p>}
          {!isClosed && work.steps.some((s) => s.id === 'strip' && (s.state === 'now' || s.state === 'later')) && <GuideLine work={work} onKnownAs={onKnownAs} />}
        </>
      )}
      <div className={opens ? 'mt-5' : ''}><ProofList proof={work.proof} onEntry={onEntry} /></div>
    </section>
  )
}
