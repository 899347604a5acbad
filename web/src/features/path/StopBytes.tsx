import { useState } from 'react'

import type { PathStop } from '../../api/pathQueries'
import { T } from '../../words'

const ROW = 16
const printable = (code: number): string => (code >= 0x20 && code < 0x7f ? String.fromCharCode(code) : '·')
const at = (hex: string, byte: number): string => hex.slice(byte * 2, byte * 2 + 2)

/** A stop unfolded to its bytes: the sector with the fields of its structure underlined, and each field by name and value. */
export function StopBytes({ stop }: { stop: PathStop }) {
  const [chosen, setChosen] = useState<number | null>(null)
  if (stop.lba === null) return null
  const size = stop.hex.length / 2
  const fieldOf = (byte: number) => stop.marks.findIndex((m) => byte >= m.at && byte < m.at + m.size)
  const rows = Array.from({ length: Math.ceil(size / ROW) }, (_, row) => row)
  const isZero = (row: number) => /^0*$/.test(stop.hex.slice(row * ROW * 2, (row + 1) * ROW * 2))
  const hidden = (row: number) => row > 0 && row < rows.length - 1 && isZero(row) && isZero(row - 1) && isZero(row + 1)
  const look = (byte: number) => {
    const field = fieldOf(byte)
    if (field === -1) return at(stop.hex, byte) === '00' ? 'text-line' : ''
    return field === chosen ? 'bg-ink font-bold text-paper' : field % 2 ? 'underline decoration-dotted underline-offset-4' : 'underline underline-offset-4'
  }
  return (
    <section className="mt-2 border-l-[5px] border-brick bg-sheet px-4 py-2.5" data-bytes aria-label={T.pathBytes}>
      <h2 className="text-m font-bold">{stop.structure} · <span className="font-mono">LBA {stop.lba}</span></h2>
      {stop.missing ? <p className="text-m">{T.pathMissing(stop.missing)}</p> : (
        <div className="mt-1 grid gap-x-6 gap-y-2 lg:grid-cols-[auto_minmax(0,1fr)]">
          <div className="overflow-x-auto">
            <table className="font-mono text-s leading-5">
              <tbody>
                {rows.map((row) => {
                  if (hidden(row)) return hidden(row - 1) ? null : <tr key={row}><td className="text-soft">…</td></tr>
                  return (
                    <tr key={row}>
                      <td className="pr-3 text-right text-soft">{row * ROW}</td>
                      {Array.from({ length: ROW }, (_, i) => row * ROW + i).map((b) => <td key={b} className={`px-[3px] ${look(b)}`}>{at(stop.hex, b)}</td>)}
                      <td className="pl-3 text-soft max-sm:hidden">{Array.from({ length: ROW }, (_, i) => printable(parseInt(at(stop.hex, row * ROW + i), 16))).join('')}</td>
                    </tr>
                  )
                })}
              </tbody>
            </table>
          </div>
          <ul className="grid content-start gap-x-4 text-s sm:grid-cols-2">
            {stop.marks.slice(0, 24).map((m, index) => (
              <li key={`${m.at}-${m.name}`}>
                <button type="button" aria-pressed={index === chosen} onClick={() => setChosen(index === chosen ? null : index)} className={`touch min-h-8 text-left ${index === chosen ? 'font-bold' : ''}`}>
                  <span className="text-soft">{m.at}</span> {m.name.replaceAll('_', ' ')} <span className="font-mono text-soft">{stop.hex.slice(m.at * 2, (m.at + Math.min(m.size, 8)) * 2)}{m.size > 8 && '…'}</span>
                </button>
              </li>
            ))}
          </ul>
        </div>
      )}
    </section>
  )
}
