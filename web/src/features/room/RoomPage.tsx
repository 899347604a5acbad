import { useState } from 'react'
import { useLocation } from 'wouter'

import { useMakeRoom, useRoom, type TicketRoom } from '../../api/workQueries'
import { bytes, day } from '../../lib/format'
import { keyName, TARGET_KEYS } from '../../lib/keymap'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { T } from '../../words'
import { bytesOf, deletable } from './held'

/** What the bench's disk holds for each ticket; images and recovered files go by a digit and a second look. */
export function RoomPage() {
  const { data: room, error } = useRoom()
  const make = useMakeRoom()
  const [, navigate] = useLocation()
  const [asked, setAsked] = useState<TicketRoom | null>(null)
  const bench = () => navigate('/')
  const rows = deletable(room?.tickets ?? [])
  const sure = () => asked && make.mutate(asked.id, { onSettled: () => setAsked(null) })
  if (!room) return <div className="p-8">{error ? <Note title={T.away}>{error.message}</Note> : <p className="text-l text-soft">{T.loading}</p>}</div>
  return (
    <Commands
      page="room" on={{ bench, back: () => (asked ? setAsked(null) : bench()), shop: () => navigate('/shop'), ...(asked && { sure, leave: () => setAsked(null) }) }}
      targets={rows.map((own) => () => setAsked(own))}
    >
      <main className="h-full overflow-y-auto px-4 pb-8 pt-4 lg:px-7">
        <header className="mb-1 flex flex-wrap items-baseline gap-x-5 gap-y-1">
          <h1 className="text-xl font-bold">{T.roomTitle}</h1>
          <span className="ml-auto flex flex-wrap gap-x-4"><Do of="room" id="shop" /><Do of="room" id="bench" /><Do of="room" id="help" /></span>
        </header>
        {asked && (
          <div role="alert" className="mb-4 max-w-[760px]">
            <Note title={T.roomSure(asked.machine, asked.number, bytes(bytesOf(asked)))} tone="ochre">
              {!asked.may_go && <p className="text-m">{T.roomEarly}</p>}
              <span className="flex flex-wrap gap-x-5 text-l"><Do of="room" id="sure" strong /><Do of="room" id="leave" /></span>
            </Note>
          </div>
        )}
        {make.error && <div className="mb-3"><Note title={T.notKept}>{make.error.message}</Note></div>}
        <p className="text-l"><strong>{T.roomFree(bytes(room.free), bytes(room.size))}</strong></p>
        <p className="mb-4 max-w-[90ch] text-m text-soft">{T.roomHint(room.warranty_days)}</p>
        {room.tickets.length === 0 && <p className="py-6 text-xl font-bold">{T.roomNothing}</p>}
        <ul className="max-w-[980px]">
          {room.tickets.map((own) => <Row key={own.id} own={own} place={rows.indexOf(own)} onAsk={() => setAsked(own)} />)}
        </ul>
        <p className="mt-4 text-m text-soft">{T.roomOthers(bytes(room.others))}</p>
      </main>
    </Commands>
  )
}

function Row({ own, place, onAsk }: { own: TicketRoom; place: number; onAsk: () => void }) {
  const parts: [number, string][] = [[own.images, T.roomImages], [own.recovered, T.roomRecovered], [own.checks, T.roomChecks]]
  return (
    <li data-room={own.id} className="flex flex-wrap items-center gap-x-5 gap-y-1 border-b border-hair py-2">
      <span className="w-6 text-center text-xl text-indigo">{place >= 0 ? keyName(TARGET_KEYS[place] ?? '') : ''}</span>
      <span className="w-24 text-right text-l font-semibold tabular-nums">{bytes(bytesOf(own))}</span>
      <span className="min-w-0 flex-1 basis-64">
        <span className="block truncate text-l">{own.machine} <span className="font-mono text-s text-soft">{own.number}</span></span>
        <span className="block truncate text-m">{own.customer}</span>
        <span className="block text-m text-soft">{parts.filter(([size]) => size > 0).map(([size, name]) => `${name} ${bytes(size)}`).join(' · ')}</span>
      </span>
      <span className="text-m md:w-48">{own.closed_at === null ? T.roomOpen : own.may_go ? T.roomMay : T.roomUntil(day(own.goes_on ?? ''))}</span>
      <span className="ml-auto text-right md:w-36">{place >= 0 && <button type="button" onClick={onAsk} className="touch min-h-10 px-1 text-m text-indigo">{T.roomDelete(bytes(bytesOf(own)))}</button>}</span>
    </li>
  )
}
