import { useState } from 'react'

import { api } from '../../api/client'
import { initials as ownInitials, setInitials } from '../../lib/person'
import { Note } from '../../ui/Note'
import { T } from '../../words'

const LENGTH = 6

/** The code that the address carries behind its `#`, where it was scanned. */
function scanned(): string {
  return /pair=([A-Z0-9]+)/i.exec(location.hash)?.[1]?.toUpperCase() ?? ''
}

/** A device that is not paired yet: the code from the bench's own screen lets it in, and its technician's initials go with it. */
export function PairPage({ onPaired }: { onPaired: () => void }) {
  const [code, setCode] = useState(scanned)
  const [who, setWho] = useState(() => (ownInitials() === 'me' ? '' : ownInitials()))
  const [error, setError] = useState<string | null>(null)
  const [isBusy, setIsBusy] = useState(false)
  const isReady = code.replace(/\W/g, '').length === LENGTH && who.trim() !== ''
  const pair = () => {
    setIsBusy(true)
    api.pair(code, who.trim()).then(
      () => { setInitials(who); history.replaceState(null, '', location.pathname); onPaired() },
      (failed: Error) => { setError(failed.message); setIsBusy(false) },
    )
  }
  return (
    <main className="mx-auto max-w-md px-6 pt-16">
      <h1 className="text-xl font-semibold">{T.pairTitle}</h1>
      <p className="mt-2 mb-6 text-l text-soft">{T.pairHint}</p>
      <form className="flex flex-col gap-4" onSubmit={(event) => { event.preventDefault(); if (isReady && !isBusy) pair() }}>
        <label className="flex flex-col gap-1 text-m text-soft">
          {T.pairCode}
          <input
            value={code} onChange={(e) => setCode(e.target.value.toUpperCase())} autoFocus={code === ''} autoComplete="one-time-code" autoCapitalize="characters" spellCheck={false} maxLength={10}
            className="min-h-14 rounded-lg border border-line bg-sheet px-4 font-mono text-xl tracking-[0.2em] text-ink"
          />
        </label>
        <label className="flex flex-col gap-1 text-m text-soft">
          {T.pairWho}
          <input value={who} onChange={(e) => setWho(e.target.value)} autoFocus={code !== ''} maxLength={6} className="min-h-14 rounded-lg border border-line bg-sheet px-4 text-xl text-ink" />
        </label>
        {error && <Note title={T.pairNot}>{error}</Note>}
        <button type="submit" disabled={!isReady || isBusy} className="min-h-14 rounded-lg bg-indigo px-6 text-center text-l font-semibold text-paper disabled:bg-hair disabled:text-soft">{T.pairDo}</button>
      </form>
    </main>
  )
}
