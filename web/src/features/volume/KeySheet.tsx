import { useRef, useState, type FormEvent } from 'react'

import { useVolumeKey, type Volumes } from '../../api/volumeQueries'
import { initials } from '../../lib/person'
import { grouped, recoveryKey } from '../../lib/recoveryKey'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

const MOST_FILE = 8_000

/** The customer's key for an encrypted volume: which one it must be, typed, pasted or from a startup key file. */
export function KeySheet({ ticket, volumes, onClose }: { ticket: number; volumes: Volumes; onClose: () => void }) {
  const [typed, setTyped] = useState('')
  const [tooLarge, setTooLarge] = useState(false)
  const file = useRef<HTMLInputElement>(null)
  const change = useVolumeKey(ticket, volumes)
  const own = volumes.look?.encryption
  if (!own) return null
  const key = recoveryKey(typed)
  const usable = own.keys.filter((k) => k.opens)
  const send = (ask: { key?: string; file?: string }) => change.mutate({ ...ask, by: initials() }, { onSuccess: onClose })
  const handleSubmit = (event: FormEvent) => { event.preventDefault(); if (typed.trim() && (key === null || key.isWhole)) send({ key: typed }) }
  const handleFile = async (chosen: File | undefined) => {
    if (!chosen) return
    setTooLarge(chosen.size > MOST_FILE)
    if (chosen.size > MOST_FILE) return
    send({ file: btoa(String.fromCharCode(...new Uint8Array(await chosen.arrayBuffer()))) })
  }
  return (
    <Sheet title={T.keyTitle} isOpen onClose={onClose}>
      <p className="-mt-3 mb-3 text-m text-soft">{own.name} · {T.keyMemory}</p>
      <section aria-label={T.keyWhich} className="mb-4">
        <h3 className="text-m font-bold">{T.keyWhich}</h3>
        {usable.length === 0 && <p className="text-m">{T.keyNoneHere}</p>}
        <ul>{usable.map((k) => (
          <li key={k.id} className="py-1" data-key-id={k.id}>
            <span className="block text-m">{T.keyKinds[k.how] ?? k.name}</span>
            <span className="block break-all font-mono text-l font-semibold">{k.id}</span>
          </li>
        ))}</ul>
      </section>
      {usable.length > 0 && (
        <form onSubmit={handleSubmit}>
          <label className="block">
            <span className="mb-1 block text-m">{T.keyField}</span>
            <textarea
              autoFocus rows={3} autoComplete="off" autoCorrect="off" autoCapitalize="off" spellCheck={false} maxLength={1000} value={typed} aria-invalid={(key?.wrong.length ?? 0) > 0}
              onChange={(e) => { change.reset(); setTyped(grouped(e.target.value)) }}
              onKeyDown={(e) => { if (e.key === 'Enter' && !e.shiftKey) handleSubmit(e) }}
              className="w-full rounded border border-line bg-sheet px-3 py-2 font-mono text-l"
            />
          </label>
          <p className="min-h-6 text-m" role="status" data-groups={key?.groups.length ?? 0}>
            {key && (key.wrong.length > 0 ? <strong className="text-brick">{T.keyWrongGroup(key.wrong)}</strong> : <span className="text-soft">{T.keyGroups(key.groups.length)}</span>)}
          </p>
          {change.error && <p role="alert" className="mb-2 border-l-4 border-brick bg-sheet px-3 py-1 text-m">{change.error.message}</p>}
          {tooLarge && <p role="alert" className="mb-2 text-m text-brick">{T.keyFileTooLarge}</p>}
          <div className="flex flex-wrap items-center gap-4">
            <button type="submit" disabled={change.isPending || !typed.trim() || (key !== null && !key.isWhole)} className="min-h-12 rounded bg-indigo px-5 text-l font-semibold text-paper disabled:opacity-50">{change.isPending ? T.keyOpening : T.keyOpen}</button>
            <button type="button" className="touch min-h-12 px-2 text-m text-indigo" onClick={() => file.current?.click()}>{T.keyFile}</button>
            <input ref={file} type="file" className="sr-only" aria-label={T.keyFile} tabIndex={-1} onChange={(e) => void handleFile(e.target.files?.[0])} />
          </div>
        </form>
      )}
      {volumes.has_key && <p className="mt-6"><button type="button" className="touch min-h-12 text-m text-brick" onClick={() => change.mutate({ forget: true }, { onSuccess: onClose })}>{T.keyForget}</button></p>}
    </Sheet>
  )
}
