import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'

import { api, type Technician } from '../../api/client'
import { keys } from '../../api/keys'
import { initials as ownInitials } from '../../lib/person'
import { Note } from '../../ui/Note'
import { T } from '../../words'

const FIELD = 'min-h-11 rounded border border-line bg-sheet px-3 text-l text-ink'

/** Who works in this shop, with which role; name one more, give a new PIN, take one out. */
export function Technicians() {
  const cache = useQueryClient()
  const { data: all = [] } = useQuery({ queryKey: keys.technicians(), queryFn: api.technicians })
  const { data: me } = useQuery({ queryKey: keys.me(), queryFn: api.me, staleTime: 60_000 })
  const kept = (left: Technician[]) => {
    cache.setQueryData(keys.technicians(), left)
    void cache.invalidateQueries({ queryKey: keys.me() })
  }
  const change = useMutation({ mutationFn: ({ id, ...json }: { id: number; role?: string; pin?: string }) => api.changeTechnician(id, json), onSuccess: kept })
  const remove = useMutation({ mutationFn: api.removeTechnician, onSuccess: kept })
  const signOut = useMutation({ mutationFn: api.signOut, onSuccess: (now) => cache.setQueryData(keys.me(), now) })
  const [isAdding, setIsAdding] = useState(false)
  const error = change.error ?? remove.error
  return (
    <section aria-label={T.technicians} className="mt-8" data-technicians>
      <h3 className="text-l font-bold">{T.technicians}</h3>
      <p className="mb-2 text-m text-soft">{all.length === 0 ? T.techniciansNone : T.techniciansHint}</p>
      {error && <div className="mb-3"><Note title={T.notKept}>{error.message}</Note></div>}
      <ul>
        {all.map((own) => (
          <li key={own.id} className="flex min-h-12 flex-wrap items-center gap-x-4 border-b border-hair py-1">
            <span className="min-w-0 max-sm:w-full sm:flex-1">
              <span className="text-l font-semibold">{own.initials}</span>
              {me?.signed_in && me.initials === own.initials && <span className="text-m text-pine"> · {T.technicianYou}</span>}
              <span className="block text-s text-soft">{T.rightsOf(own.rights.map((r) => T.rightNames[r] ?? r))}</span>
            </span>
            <select aria-label={`${T.technicianRole}: ${own.initials}`} value={own.role} onChange={(e) => change.mutate({ id: own.id, role: e.target.value })} className={FIELD}>
              {Object.entries(T.roleNames).map(([id, name]) => <option key={id} value={id}>{name}</option>)}
            </select>
            <NewPin initials={own.initials} onPin={(pin) => change.mutate({ id: own.id, pin })} />
            <button type="button" onClick={() => remove.mutate(own.id)} aria-label={`${T.technicianOut}: ${own.initials}`} className="touch min-h-11 px-2 text-m text-indigo underline underline-offset-4">{T.technicianOut}</button>
          </li>
        ))}
      </ul>
      <p className="mt-2 flex flex-wrap gap-x-5">
        {!isAdding && <button type="button" onClick={() => setIsAdding(true)} className="touch min-h-11 text-m font-semibold text-indigo">{T.technicianAdd}</button>}
        {me?.signed_in && <button type="button" onClick={() => signOut.mutate()} className="touch min-h-11 text-m text-indigo">{T.signOut}</button>}
      </p>
      {isAdding && <Add isFirst={all.length === 0} onAdded={(left) => { kept(left); setIsAdding(false) }} />}
    </section>
  )
}

function NewPin({ initials, onPin }: { initials: string; onPin: (pin: string) => void }) {
  const [pin, setPin] = useState<string | null>(null)
  if (pin === null) return <button type="button" onClick={() => setPin('')} aria-label={`${T.technicianPinNew}: ${initials}`} className="touch min-h-11 px-2 text-m text-indigo underline underline-offset-4">{T.technicianPinNew}</button>
  return (
    <form className="flex gap-2" onSubmit={(e) => { e.preventDefault(); onPin(pin); setPin(null) }}>
      <input aria-label={T.technicianPin} type="password" inputMode="numeric" autoComplete="off" autoFocus maxLength={8} value={pin} onChange={(e) => setPin(e.target.value.replace(/\D/g, ''))} className={`${FIELD} w-32 font-mono`} />
      <button type="submit" disabled={pin.length < 4} className="touch min-h-11 px-2 text-m font-semibold text-indigo disabled:text-soft">{T.pinDo}</button>
    </form>
  )
}

function Add({ isFirst, onAdded }: { isFirst: boolean; onAdded: (left: Technician[]) => void }) {
  const [said, setSaid] = useState({ initials: isFirst && ownInitials() !== 'me' ? ownInitials() : '', role: isFirst ? 'lead' : 'technician', pin: '' })
  const add = useMutation({ mutationFn: () => api.addTechnician(said.initials, said.role, said.pin, ownInitials()), onSuccess: onAdded })
  const isReady = said.initials.trim() !== '' && said.pin.length >= 4 && !add.isPending
  return (
    <form className="mt-2 flex flex-wrap items-end gap-3 border-l-4 border-indigo bg-sheet p-3" onSubmit={(e) => { e.preventDefault(); if (isReady) add.mutate() }}>
      <label className="flex flex-col gap-1 text-m font-semibold text-soft">{T.technicianInitials}
        <input autoFocus maxLength={8} value={said.initials} onChange={(e) => setSaid({ ...said, initials: e.target.value.toUpperCase() })} className={`${FIELD} w-28`} />
      </label>
      <label className="flex flex-col gap-1 text-m font-semibold text-soft">{T.technicianRole}
        <select value={said.role} disabled={isFirst} onChange={(e) => setSaid({ ...said, role: e.target.value })} className={FIELD}>
          {Object.entries(T.roleNames).map(([id, name]) => <option key={id} value={id}>{name}</option>)}
        </select>
      </label>
      <label className="flex flex-col gap-1 text-m font-semibold text-soft">{T.technicianPin}
        <input type="password" inputMode="numeric" autoComplete="off" maxLength={8} value={said.pin} onChange={(e) => setSaid({ ...said, pin: e.target.value.replace(/\D/g, '') })} className={`${FIELD} w-36 font-mono`} />
      </label>
      <button type="submit" disabled={!isReady} className="min-h-11 rounded-lg bg-indigo px-5 text-m font-semibold text-paper disabled:bg-hair disabled:text-soft">{T.technicianAdd}</button>
      {add.error && <div className="w-full"><Note title={T.notKept}>{add.error.message}</Note></div>}
    </form>
  )
}
