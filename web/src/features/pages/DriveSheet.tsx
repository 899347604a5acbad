import type { Capture, Drive, Finding } from '../../api/client'
import { bytes, clock } from '../../lib/format'
import { KeyAction } from '../../ui/Key'
import { T } from '../../words'
import { Readings } from './Readings'
import { TimeLine } from './TimeLine'
import { TrendPane } from './TrendPane'

interface DriveSheetProps {
  capture: Capture
  drive: Drive
  onWeigh: (() => void) | null
  /** Shows the bytes of a page, by its kind. */
  onBytes: (page: string, at: number) => void
}

const TONE: Record<string, string> = { failing: 'border-brick', sign: 'border-ochre', note: 'border-line' }
const WORD: Record<string, string> = { failing: 'failing', sign: 'sign', note: 'note' }

// where each line of the identity stands in its page (ACS-4 table 55, NVMe 1.4 figure 247)
const ATA_AT: Record<string, number> = { Model: 54, Serial: 20, Firmware: 46, Size: 200, Turns: 434, WWN: 216, Password: 256 }
const NVME_AT: Record<string, number> = { Model: 24, Serial: 4, Firmware: 64, Size: 280 }

function Identity({ drive, onBytes }: { drive: Drive; onBytes: (page: string, at: number) => void }) {
  const identity = drive.identity
  if (!identity) return null
  const rotation = identity['rotation']
  const rows: [string, string][] = [
    ['Model', String(identity['model'])],
    ['Serial', String(identity['serial'])],
    ['Firmware', String(identity['firmware'])],
    ['Size', bytes(Number(identity['capacity'] ?? 0))],
    ['Turns', rotation === 0 ? 'flash' : typeof rotation === 'number' ? `${rotation} rpm` : 'not told'],
    ['Bus', [drive.bus, identity['transport']].filter(Boolean).join(', ')],
    ...(identity['wwn'] ? [['WWN', String(identity['wwn'])] as [string, string]] : []),
    ...(Array.isArray(identity['security']) && identity['security'].length > 0 ? [['Password', identity['security'].join(', ')] as [string, string]] : []),
  ]
  return (
    <dl className="flex flex-wrap gap-x-8 gap-y-1">
      {rows.map(([name, value]) => {
        const isNvme = drive.bus === 'nvme'
        const at = (isNvme ? NVME_AT : ATA_AT)[name]
        return (
          <div key={name}>
            <dt className="text-s text-soft">{name}</dt>
            <dd className={['Size', 'Turns', 'Bus'].includes(name) ? 'text-m' : 'font-mono text-m'}>
              {at === undefined ? value : (
                <button type="button" onClick={() => onBytes(isNvme ? 'nvme-controller' : 'ata-identify', at)} className="underline decoration-hair underline-offset-4">{value}</button>
              )}
            </dd>
          </div>
        )
      })}
    </dl>
  )
}

function FindingLine({ finding, onBytes }: { finding: Finding; onBytes: (page: string, at: number) => void }) {
  return (
    <li className={`border-l-4 ${TONE[finding.severity] ?? 'border-line'} bg-sheet px-3 py-2`}>
      <div className="flex items-baseline justify-between gap-4">
        <span className="text-m font-semibold">{finding.text}</span>
        <span className="shrink-0 text-s text-soft">{finding.kind} · {WORD[finding.severity] ?? finding.severity}</span>
      </div>
      <div className="text-s text-soft">
        {finding.means}
        {finding.at != null
          ? <button type="button" onClick={() => onBytes(finding.page, finding.at ?? 0)} className="ml-1 min-h-7 font-mono text-indigo">{finding.page} byte {finding.at}</button>
          : <span className="font-mono"> · {finding.page}</span>}
      </div>
    </li>
  )
}

/** One drive of one capture: verdict, identity, findings by weight, readings, and the pages they rest on. */
export function DriveSheet({ capture, drive, onWeigh, onBytes }: DriveSheetProps) {
  const undone = [...drive.pages.filter((p) => p.status !== 'decoded'), ...capture.other_pages]
  return (
    <div className="grid grid-cols-[1fr_1fr] gap-8">
      <div>
        <p className="mb-2 text-xl font-semibold">{drive.verdict}</p>
        <p className="mb-3 text-s text-soft">
          <span className="font-mono">{capture.name}</span> · {clock(capture.added_at)}
          {capture.weighed === drive.device && ` · ${T.weighed(drive.device || 'page')}`}
        </p>
        {onWeigh && <p className="mb-3"><KeyAction hotkey="W" label="weigh this drive: it is this machine’s" onPress={onWeigh} strong /></p>}
        <Identity drive={drive} onBytes={onBytes} />
        {drive.findings.length > 0 && (
          <ol className="mt-4 flex flex-col gap-2">{drive.findings.map((f) => <FindingLine key={`${f.id}-${f.at ?? ''}-${f.text}`} finding={f} onBytes={onBytes} />)}</ol>
        )}
        {drive.trend && <TrendPane drive={drive} trend={drive.trend} />}
      </div>
      <div>
        <Readings drive={drive} onBytes={onBytes} />
        <TimeLine drive={drive} onBytes={onBytes} />
        {undone.length > 0 && (
          <details className="mt-4 text-s">
            <summary className="min-h-8 cursor-pointer text-m font-semibold">{T.notDecoded}: {undone.length}</summary>
            <ul>
              {undone.map((page) => (
                <li key={page.path} className="border-b border-hair py-1"><span className="font-mono">{page.path}</span> <span className="text-soft">{page.detail}</span></li>
              ))}
            </ul>
          </details>
        )}
      </div>
    </div>
  )
}
