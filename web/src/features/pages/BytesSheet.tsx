import { useEffect, useRef } from 'react'

import { useRaw } from '../../api/queries'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

const ROW = 16

function byteAt(hex: string, at: number): string {
  return hex.slice(at * 2, at * 2 + 2)
}

const printable = (code: number): string => (code >= 0x20 && code < 0x7f ? String.fromCharCode(code) : '·')

/** The raw bytes of a page with the field that a claim rests on marked. */
export function BytesSheet({ ticket, sha256, path, at, onClose }: { ticket: number; sha256: string; path: string; at: number | null; onClose: () => void }) {
  const { data, error } = useRaw(ticket, sha256, path, at)
  const marked = useRef<HTMLTableRowElement>(null)
  useEffect(() => {
    marked.current?.scrollIntoView({ block: 'center' })
  }, [data])
  const rows = data ? Math.ceil(data.hex.length / 2 / ROW) : 0
  const isMarked = (byte: number) => data !== undefined && data.length > 0 && byte >= data.start && byte < data.start + data.length
  const isZero = (row: number) => /^0*$/.test(data?.hex.slice(row * ROW * 2, (row + 1) * ROW * 2) ?? '')
  const hidden = (row: number) => row > 0 && row < rows - 1 && isZero(row) && isZero(row - 1) && isZero(row + 1) && !isMarked(row * ROW) && !isMarked(row * ROW + ROW - 1)
  return (
    <Sheet title={T.bytesTitle} isOpen onClose={onClose} wide>
      <p className="-mt-3 mb-3 text-m"><span className="font-mono">{path}</span>{data?.field && <strong> · {T.bytesOf(data.field, data.start, data.length)}</strong>}</p>
      {error && <Note title={T.notKept}>{error.message}</Note>}
      {data && (
        <table className="font-mono text-s leading-5">
          <tbody>
            {Array.from({ length: rows }, (_, row) => {
              if (hidden(row)) return hidden(row - 1) ? null : <tr key={row}><td className="text-soft">…</td></tr>
              const bytes = Array.from({ length: ROW }, (_, i) => row * ROW + i).filter((b) => b * 2 < data.hex.length)
              const first = bytes.some(isMarked) && !bytes.some((b) => isMarked(b - ROW))
              return (
                <tr key={row} ref={first ? marked : null}>
                  <td className="pr-4 text-right text-soft">{row * ROW}</td>
                  {bytes.map((b) => <td key={b} className={`px-1 ${isMarked(b) ? 'bg-ink font-bold text-paper' : byteAt(data.hex, b) === '00' ? 'text-line' : ''}`}>{byteAt(data.hex, b)}</td>)}
                  <td className="pl-4 text-soft">{bytes.map((b) => printable(parseInt(byteAt(data.hex, b), 16))).join('')}</td>
                </tr>
              )
            })}
          </tbody>
        </table>
      )}
    </Sheet>
  )
}
