import type { Capture, Drive, Finding } from '../../api/client'
import { bytes, clock } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'
import { identityLines } from './identity'
import { Readings } from './Readings'
import { TimeLine } from './TimeLine'
import { TrendPane } from './TrendPane'

interface DriveSheetProps {
  ticket: number
  capture: Capture
  drive: Drive
  /** Shows the bytes of a page, by its kind. */
  onBytes: (page: string, at: number) => void
}

const TONE: Record<string, string> = { failing: 'border-brick', sign: 'border-ochre', note: 'border-line' }

function Identity({ drive, onBytes }: { drive: Drive; onBytes: (page: string, at: number) => void }) {
  return (
    <dl className="flex flex-wrap gap-x-8 gap-y-1">
      {identityLines(drive).map(({ name, value, page, at, isCode }) => (
        <div key={name}>
          <dt className="text-s text-soft">{name}</dt>
          <dd className={isCode ? 'font-mono text-m' : 'text-m'}>
            {at === null || page === null ? value : (
              <button type="button" onClick={() => onBytes(page, at)} className="min-h-6 underline decoration-hair underline-offset-4">{value}</button>
            )}
          </dd>
        </div>
      ))}
    </dl>
  )
}

function FindingLine({ finding, onBytes }: { finding: Finding; onBytes: (page: string, at: number) => void }) {
  return (
    <li className={`border-l-4 ${TONE[finding.severity] ?? 'border-line'} bg-sheet px-3 py-2`}>
      <div className="flex items-baseline justify-between gap-4">
        <span className="text-m font-semibold">{finding.text}</span>
        <span className="shrink-0 text-s text-soft">{T.findingKinds[finding.kind] ?? finding.kind} · {T.severity[finding.severity] ?? finding.severity}</span>
      </div>
      <div className="text-s text-soft">
        {finding.means}
        {finding.at != null
          ? <button type="button" onClick={() => onBytes(finding.page, finding.at ?? 0)} className="ml-1 min-h-7 text-left font-mono text-indigo">{T.byteOf(finding.page, finding.at)}</button>
          : <span className="font-mono"> · {finding.page}</span>}
      </div>
    </li>
  )
}

/** What stands on the drive, partition by partition. */
function Volumes({ capture, drive }: { capture: Capture; drive: Drive }) {
  const own = capture.volumes.filter((v) => v.device === drive.device || v.device.replace(/n\d+$/, '') === drive.device)
  if (own.length === 0) return null
  return (
    <section className="mt-4">
      <h3 className="mb-1 text-s font-bold text-soft">{T.onTheDisk}</h3>
      <ul className="text-m">
        {own.map((v) => (
          <li key={`${v.device}-${v.partition}-${v.within}`} className="border-b border-hair py-1">
            <span className="inline-block w-6 text-soft">{v.within ? '' : v.partition}</span>
            {v.volume ? String(v.volume['name']) : T.noMark}
            {v.within && <span className="font-mono text-s"> {v.within}</span>}
            {v.volume?.['label'] ? <span> · {String(v.volume['label'])}</span> : null}
            {v.volume?.['size'] ? <span className="text-soft"> · {bytes(Number(v.volume['size']))}</span> : null}
            {v.programs.length > 0 && <span className="block pl-6 font-mono text-s break-all text-soft">{v.programs.join(', ')}</span>}
          </li>
        ))}
      </ul>
    </section>
  )
}

/** Pages by name, with what became of each. */
function PageList({ title, pages }: { title: string; pages: Capture['other_pages'] }) {
  if (pages.length === 0) return null
  return (
    <details className="mt-4 text-s">
      <summary className="min-h-8 cursor-pointer text-m font-semibold">{title}: {pages.length}</summary>
      <ul>
        {pages.map((page) => (
          <li key={page.path} className="border-b border-hair py-1"><span className="font-mono break-all">{page.path}</span> <span className="text-soft">{page.detail}</span></li>
        ))}
      </ul>
    </details>
  )
}

/** One drive of one capture: verdict, identity, findings by weight, readings, and the pages they rest on. */
export function DriveSheet({ ticket, capture, drive, onBytes }: DriveSheetProps) {
  const all = [...drive.pages, ...capture.other_pages]
  const silent = all.filter((p) => p.status !== 'decoded')
  const others = capture.other_pages.filter((p) => p.status === 'decoded')
  return (
    <div className="grid gap-x-8 gap-y-4 lg:grid-cols-2">
      <div>
        <p className="mb-2 text-xl font-semibold">{drive.verdict}</p>
        <p className="mb-3 text-s text-soft">
          <span className="font-mono">{capture.name}</span> · {clock(capture.added_at)}
          {capture.weighed === drive.device && ` · ${T.weighed(drive.device || T.page)}`}
        </p>
        <p className="mb-2"><Do of="pages" id="weigh" strong /></p>
        <Identity drive={drive} onBytes={onBytes} />
        {drive.findings.length > 0 && (
          <ol className="mt-4 flex flex-col gap-2">{drive.findings.map((f) => <FindingLine key={`${f.id}-${f.at ?? ''}-${f.text}`} finding={f} onBytes={onBytes} />)}</ol>
        )}
        {capture.notes.length > 0 && (
          <section className="mt-4">
            <h3 className="mb-1 text-s font-bold text-soft">{T.machineNotes}</h3>
            <ol className="flex flex-col gap-2">{capture.notes.map((f) => <FindingLine key={`${f.id}-${f.text}`} finding={f} onBytes={onBytes} />)}</ol>
          </section>
        )}
        {drive.trend && <TrendPane drive={drive} trend={drive.trend} />}
      </div>
      <div>
        <Readings drive={drive} onBytes={onBytes} />
        <TimeLine ticket={ticket} drive={drive} onBytes={onBytes} />
        <Volumes capture={capture} drive={drive} />
        <PageList title={T.pagesSilent} pages={silent} />
        <PageList title={T.pagesOthers} pages={others} />
      </div>
    </div>
  )
}
