import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'

import { api, type PairingCode } from '../../api/client'
import { clock } from '../../lib/format'
import { SHEET_KEYS, type Handlers } from '../../lib/keymap'
import { Commands, Do } from '../../ui/Commands'
import { Note } from '../../ui/Note'
import { Sheet } from '../../ui/Sheet'
import { T } from '../../words'
import { keys } from '../../api/keys'
import { Technicians } from './Technicians'

/** A code with the seconds that it is still good for. */
function Code({ code, onOver }: { code: PairingCode; onOver: () => void }) {
  const [left, setLeft] = useState(Math.round(code.seconds))
  useEffect(() => {
    const end = Date.now() + code.seconds * 1000
    const timer = setInterval(() => {
      const seconds = Math.max(0, Math.round((end - Date.now()) / 1000))
      setLeft(seconds)
      if (seconds === 0) onOver()
    }, 500)
    return () => clearInterval(timer)
  }, [code, onOver])
  return (
    <div className="mb-5 flex items-start gap-5 border-l-4 border-pine bg-sheet p-4 max-sm:flex-col">
      {code.qr && <div className="w-40 shrink-0 [&_svg]:h-auto [&_svg]:w-full" role="img" aria-label={code.address} dangerouslySetInnerHTML={{ __html: code.qr }} />}
      <div>
        <p className="select-all font-mono text-xxl leading-none font-semibold tracking-[0.2em]">{code.code}</p>
        <p className="mt-2 text-m">{code.address ? T.codeHow(code.address) : T.codeLocal}</p>
        <p className="mt-1 text-s text-soft">{T.codeLeft(left)}</p>
      </div>
    </div>
  )
}

/** The shop's own authority, before a device pairs over an encrypted page: where it is fetched, how it is installed, what to compare. */
function Authority({ own }: { own: NonNullable<PairingCode['authority']> }) {
  return (
    <section className="mb-5 border-l-4 border-ochre bg-sheet p-4" aria-label={T.authority} data-authority>
      <h3 className="text-l font-bold">{T.authority}</h3>
      <div className="mt-2 flex items-start gap-5 max-sm:flex-col">
        <div className="w-32 shrink-0 [&_svg]:h-auto [&_svg]:w-full" role="img" aria-label={own.place} dangerouslySetInnerHTML={{ __html: own.qr }} />
        <ol className="min-w-0 list-decimal space-y-1 pl-5 text-m">
          <li>{T.authorityFetch} <span className="break-all font-mono select-all">{own.place}</span></li>
          <li>{T.authorityInstall}<ul className="text-s text-soft">{T.authoritySystems.map(([system, how]) => <li key={system}><strong>{system}</strong>: {how}</li>)}</ul></li>
          <li>{T.authorityCompare} <span className="block font-semibold">{own.words}</span><span className="block break-all font-mono text-s">{own.fingerprint}</span></li>
        </ol>
      </div>
    </section>
  )
}

/** Which devices may come in besides this computer: pair one more, or take one out. */
export function DevicesSheet({ onClose }: { onClose: () => void }) {
  const cache = useQueryClient()
  const { data: devices = [] } = useQuery({ queryKey: keys.devices(), queryFn: api.devices })
  const [code, setCode] = useState<PairingCode | null>(null)
  const [isOver, setIsOver] = useState(false)
  const make = useMutation({ mutationFn: api.makeCode, onSuccess: (made) => { setCode(made); setIsOver(false) } })
  const revoke = useMutation({ mutationFn: api.revokeDevice, onSuccess: (left) => cache.setQueryData(keys.devices(), left) })
  // a code is gone once its device is in
  useEffect(() => { setCode(null) }, [devices.length])
  const [onOver] = useState(() => () => { setCode(null); setIsOver(true) })
  const on: Handlers<'devices'> = { pair: () => make.mutate() }
  return (
    <Commands page="devices" on={on} targets={devices.map((d) => () => revoke.mutate(d.id))} targetKeys={SHEET_KEYS}>
      <Sheet title={T.devicesTitle} isOpen onClose={onClose} wide>
        <p className="-mt-3 mb-4 text-m text-soft">{T.devicesHint}</p>
        {(make.error ?? revoke.error) && <div className="mb-3"><Note title={T.notKept}>{(make.error ?? revoke.error)?.message}</Note></div>}
        {code && <Code key={code.code} code={code} onOver={onOver} />}
        {code?.authority && <Authority own={code.authority} />}
        {isOver && !code && <div className="mb-3"><Note title={T.codeOver} tone="ochre" /></div>}
        <p className="mb-4"><Do of="devices" id="pair" strong /></p>
        {devices.length === 0 ? <p className="text-m text-soft">{T.devicesNone}</p> : (
          <ul aria-label={T.devices}>
            {devices.map((device, index) => (
              <li key={device.id} className="flex min-h-12 items-center gap-4 border-b border-hair py-1">
                <span className="min-w-0 flex-1">
                  <span className="text-l font-semibold">{device.initials}</span> <span className="text-m">{device.name}{device.is_this && ` · ${T.deviceThis}`}</span>
                  <span className="block text-s text-soft">{T.deviceSeen(clock(device.seen_at), clock(device.paired_at))}</span>
                </span>
                <button type="button" onClick={() => revoke.mutate(device.id)} className="touch min-h-11 px-2 text-m text-indigo underline underline-offset-4">
                  <span className="mr-2 text-l no-underline">{SHEET_KEYS[index]}</span>{T.deviceRevoke}
                </button>
              </li>
            ))}
          </ul>
        )}
        <Technicians />
      </Sheet>
    </Commands>
  )
}
