import { useEffect, useRef } from 'react'

import type { Link } from '../../api/client'
import type { Mend, Path, PathPlan } from '../../api/pathQueries'
import { Do } from '../../ui/Commands'
import { Share } from '../../ui/Share'
import { T } from '../../words'

interface PathVerdictProps {
  path: Path
  link: Link | undefined
  /** The plan that waits for its second key. */
  chosen: PathPlan | null
  canAsk: boolean
}

const RECENT_MS = 10 * 60_000

/** The last repair that was written here, as long as it is news. */
function latest(mends: readonly Mend[]): Mend | null {
  const newest = mends[0]
  return newest && (newest.state === 'waiting' || Date.now() - Date.parse(newest.at) < RECENT_MS) ? newest : null
}

/** At the top: where the boot stops; what is being read or written and how far; the question before anything is written, and what came of it. */
export function PathVerdict({ path, link, chosen, canAsk }: PathVerdictProps) {
  const box = useRef<HTMLElement>(null)
  const mend = latest(path.mends)
  const writes = mend?.state === 'waiting'
  const progress = link?.progress && (writes ? link.progress.order === String(mend.order) : path.reading !== null && link.progress.order === String(path.reading)) ? link.progress : null
  // the question is looked at before it is answered
  useEffect(() => { if (chosen) box.current?.scrollIntoView({ block: 'nearest' }) }, [chosen])
  const tone = chosen || path.boots === null || writes ? 'border-ochre' : path.boots ? 'border-pine' : 'border-brick'
  return (
    <section ref={box} aria-live="polite" data-boots={String(path.boots)} className={`border-l-[5px] bg-sheet px-4 py-2.5 ${tone}`}>
      {chosen ? (
        <div role="alert">
          <p className="text-xl font-bold">{chosen.what}</p>
          <p className="text-m">{chosen.writes[0]?.at === null ? T.pathSureEntry(chosen.fix_name) : T.pathSure(chosen.writes.reduce((n, w) => n + w.length, 0).toLocaleString('en'), chosen.fix_name)}</p>
          <div className="flex flex-wrap gap-x-5"><Do of="path" id="write" strong /><Do of="path" id="leave" /></div>
        </div>
      ) : (
        <>
          <p className="text-xl font-bold">{writes ? T.pathWriting(mend.what) : path.reading !== null ? T.pathReading : path.verdict}</p>
          {(writes || path.reading !== null) && progress && progress.of > 0 && <Share done={progress.done} of={progress.of} label={T.pathReading} text={progress.unit === 'sectors' ? T.pathReadingOf(progress.done.toLocaleString(), progress.of.toLocaleString()) : progress.text} />}
          {mend && !writes && <Written mend={mend} />}
          {path.findings.length > 0 && <ul className="text-m text-soft">{path.findings.map((f) => <li key={f}>{f}</li>)}</ul>}
          {path.held && path.unread > 0 && <p className="text-m"><strong>{T.readHeld}</strong>: {path.held} <Do of="path" id="facts" label={T.unblockFacts} /></p>}
          {path.unread > 0 && !canAsk && path.reading === null && <p className="text-m text-soft">{T.pathLinkFirst}</p>}
          <div className="flex flex-wrap gap-x-5 empty:hidden">
            <Do of="path" id="read" strong label={path.boots === null ? T.pathRead : T.pathReadMore} />
            {path.unread > 0 && !canAsk && path.reading === null && link?.state !== 'linked' && <Do of="path" id="link" label={T.connectFirst} strong />}
            <Do of="path" id="takeBack" />
          </div>
        </>
      )}
    </section>
  )
}

function Written({ mend }: { mend: Mend }) {
  const isDone = mend.state === 'done'
  const text = mend.reverts !== null || mend.taken_back ? T.pathUndone(mend.what) : isDone ? T.pathWrote(mend.what) : T.pathNotWritten(mend.what)
  return <p className={`text-l ${isDone ? 'text-pine' : 'text-brick'}`} data-written={mend.state}>{text}{mend.detail && !isDone && `. ${mend.detail}`}{isDone && mend.reverts === null && !mend.taken_back && <span className="text-m text-ink">. {T.pathThen}</span>}</p>
}
