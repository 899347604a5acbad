import { useLocation } from 'wouter'

import { api, type BenchRow } from '../../api/client'
import { useKnocks, useTakeKnock, type Knock } from '../../api/knockQueries'
import { useBench } from '../../api/queries'
import type { Handlers } from '../../lib/keymap'
import { initials } from '../../lib/person'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { T } from '../../words'

/** How well a ticket's machine fits what the machine calls itself: words that both have. */
function fits(row: BenchRow, knock: Knock): number {
  const own = new Set(knock.machine.toLowerCase().split(/\s+/))
  return row.machine.toLowerCase().split(/\s+/).filter((word) => own.has(word)).length
}

/** A machine that was started from the stick waits: which ticket is it? Reached by its notice on the bench, or by scanning its screen. */
export function ClaimPage({ token }: { token: string }) {
  const [, navigate] = useLocation()
  const { data: bench } = useBench()
  const { data: knocks } = useKnocks()
  const take = useTakeKnock()
  const knock = knocks?.knocks.find((k) => k.token === token)
  const rows = knock ? [...(bench?.rows ?? [])].sort((a, b) => fits(b, knock) - fits(a, knock)) : []
  const to = (ticket: number) => { if (!take.isPending) take.mutate({ token, ticket, by: initials() }, { onSuccess: () => navigate(`/ticket/${ticket}`) }) }
  const asNew = () => void api.takeIn({ customer: T.claimCustomer, machine: knock!.machine || T.claimUnnamed, words: '', facts: { platform: 'pc' }, entries: [], by: initials() }).then((ticket) => to(ticket.id))
  const on: Handlers<'claim'> = { back: () => navigate('/'), bench: () => navigate('/'), ...(knock && !take.isPending && { fresh: asNew }) }
  return (
    <Commands page="claim" on={on} targets={rows.slice(0, 9).map((row) => () => to(row.id))}>
      <main className="mx-auto h-full max-w-3xl overflow-y-auto px-5 py-4" aria-label={T.claimTitle}>
        <div className="flex flex-wrap items-baseline gap-x-4"><h1 className="text-xl font-bold">{T.claimTitle}</h1><span className="ml-auto"><Do of="claim" id="back" /></span></div>
        {take.error && <div className="my-3"><Note title={T.notKept}>{take.error.message}</Note></div>}
        {!knocks ? <p className="pt-4 text-l text-soft">{T.loading}</p> : !knock ? <p className="pt-4 text-l">{T.claimGone}</p> : (
          <>
            <p className="mt-1 text-l" data-knock>{[knock.machine || T.claimUnnamed, knock.serial && T.claimSerial(knock.serial), T.pathModes[knock.mode === 'legacy' ? 'bios' : 'uefi']].filter(Boolean).join(' · ')}</p>
            {knock.number && <p className="mt-2 text-l" data-number>{T.claimNumber} <span className="font-mono text-xl font-bold">{knock.number.slice(0, 3)} {knock.number.slice(3)}</span></p>}
            <div className="mt-1 flex flex-wrap items-baseline gap-x-4"><span className="text-m text-soft">{T.claimHint}</span><Do of="claim" id="fresh" /></div>
            <ol className="mt-3">
              {rows.map((row, index) => (
                <li key={row.id} className="border-b border-hair">
                  <button type="button" onClick={() => to(row.id)} className="touch flex min-h-12 w-full items-center gap-3 text-left">
                    <span className="w-6 text-l font-bold text-indigo">{index < 9 ? index + 1 : ''}</span>
                    <span className="min-w-0 flex-1 truncate text-l">{row.machine} <span className="text-m text-soft">{row.customer}</span></span>
                    <span className="font-mono text-s text-soft">{row.number}</span>
                  </button>
                </li>
              ))}
            </ol>
          </>
        )}
      </main>
    </Commands>
  )
}
