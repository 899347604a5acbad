import { useEffect, useRef, useState, type FormEvent } from 'react'

import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'

interface NoteSheetProps {
  error: Error | null
  isWaiting: boolean
  onNote: (text: string) => void
  onPicture: (file: File, says: string, evidence: boolean) => void
  onClose: () => void
}

/** A note for the tape; or a picture, taken with the tablet's camera or chosen, with what it shows. */
export function NoteSheet({ error, isWaiting, onNote, onPicture, onClose }: NoteSheetProps) {
  const [text, setText] = useState('')
  const [picture, setPicture] = useState<File | null>(null)
  const [isEvidence, setEvidence] = useState(false)
  const submit = (event?: FormEvent) => {
    event?.preventDefault()
    if (picture) onPicture(picture, text.trim(), isEvidence)
    else if (text.trim()) onNote(text.trim())
  }
  return (
    <Sheet title={T.noteTitle} isOpen onClose={onClose}>
      {error && <div className="mb-3"><Note title={T.notKept}>{error.message}</Note></div>}
      <form onSubmit={submit}>
        <label className="block">
          <span className="mb-1 block text-m">{picture ? T.pictureSays : T.noteText}</span>
          <textarea
            autoFocus rows={4} maxLength={picture ? 400 : 4000} value={text} onChange={(e) => setText(e.target.value)}
            onKeyDown={(e) => { if (e.key === 'Enter' && !e.shiftKey) { e.preventDefault(); submit() } }} className="w-full rounded border border-line bg-sheet px-3 py-2 text-l"
          />
        </label>
        {picture && <Preview file={picture} />}
        <div className="mt-3 flex flex-wrap items-center gap-4">
          <label className="inline-flex min-h-12 cursor-pointer items-center rounded border border-line bg-sheet px-4 text-m text-indigo focus-within:outline-3 focus-within:outline-indigo">
            {T.pictureTake}
            <input type="file" accept="image/*" capture="environment" aria-label={T.pictureTake} className="sr-only" onChange={(e) => setPicture(e.target.files?.[0] ?? null)} />
          </label>
          {picture && <label className="inline-flex min-h-12 items-center gap-2 text-m"><input type="checkbox" className="size-6" checked={isEvidence} onChange={(e) => setEvidence(e.target.checked)} />{T.pictureEvidence}</label>}
          <button type="submit" disabled={isWaiting || (!picture && !text.trim())} className="min-h-12 rounded bg-indigo px-5 text-l font-semibold text-paper disabled:opacity-50">{picture ? T.pictureKeep : T.noteKeep}</button>
        </div>
      </form>
      <p className="mt-4 text-s text-soft">{T.pictureHint}</p>
    </Sheet>
  )
}

function Preview({ file }: { file: File }) {
  const [url, setUrl] = useState('')
  useEffect(() => {
    const made = URL.createObjectURL(file)
    setUrl(made)
    return () => URL.revokeObjectURL(made)
  }, [file])
  return url ? <img src={url} alt={T.picture} className="mt-2 max-h-64 max-w-full rounded border border-hair" /> : null
}

/** A picture pasted on the page. */
export function usePastedPicture(onPicture: (file: File) => void, isOn: boolean): void {
  const latest = useRef(onPicture)
  latest.current = onPicture
  useEffect(() => {
    if (!isOn) return
    const handle = (event: ClipboardEvent) => {
      const file = [...(event.clipboardData?.files ?? [])].find((f) => f.type.startsWith('image/'))
      if (file) latest.current(file)
    }
    window.addEventListener('paste', handle)
    return () => window.removeEventListener('paste', handle)
  }, [isOn])
}
