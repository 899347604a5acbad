import { useOpenFolder, type Rescue, type Share, type VolumeLook, type Volumes } from '../../api/volumeQueries'
import { bytes, clock, isSameComputer } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { Copyable } from '../../ui/Copyable'
import { T } from '../../words'

const NAMED = 5

/** How a share is called: its folder, or what it is where it has none. */
export const shareName = (share: Pick<Share, 'path' | 'kind'>): string => (share.kind === 'loose' ? T.volumeLoose : share.kind === 'orphans' ? T.volumeOrphans : share.path)

const kinds = (share: Share): string => share.kinds.map(([kind, count]) => `${count.toLocaleString('en')} ${T.volumeFileKinds[kind]?.[count === 1 ? 0 : 1] ?? kind}`).join(', ')

interface SaveProps { ticket: number; volumes: Volumes; look: VolumeLook; chosen: ReadonlySet<string>; isActive: boolean; isAll: boolean; onToggle: (path: string) => void }

/** What is the customer's, with counts and sizes; what is saved already. */
export function Save({ ticket, volumes, look, chosen, isActive, isAll, onToggle }: SaveProps) {
  const shares = look.people.filter((s) => chosen.has(s.path))
  const files = shares.reduce((n, s) => n + s.files, 0)
  return (
    <section aria-label={T.volumeSave} data-save data-active={isActive} className={`border-t-2 pt-2 ${isActive ? 'border-ink' : 'border-line'}`}>
      <div className="flex flex-wrap items-baseline justify-between gap-x-5">
        <h2 className="text-l font-bold">{T.volumeSave}</h2>
        {!isActive && <Do of="volume" id="side" label={T.volumeSideSave} />}
      </div>
      <p className="text-s text-soft">{look.people.length > 0 ? T.volumeSaveHint : T.volumeNoPeople}</p>
      {volumes.held.rescue && <p className="mt-1 border-l-4 border-brick bg-sheet px-3 py-1.5 text-m"><strong>{T.pathHeld}</strong>: {volumes.held.rescue}</p>}
      <div className="mt-1 flex flex-wrap gap-x-5">
        <Do of="volume" id="all" label={isAll ? T.volumeAllYes : T.volumeAll} />
        <Do of="volume" id="save" strong label={T.volumeSaveDo(files, bytes(shares.reduce((n, s) => n + s.size, 0)))} />
        <Do of="volume" id="deleted" label={T.volumeDeleted(look.deleted)} />
      </div>
      <ul className="mt-1">
        {look.people.map((share, index) => (
          <li key={`${share.kind}${share.path}`} className={`border-l-[5px] py-1 pl-3 ${chosen.has(share.path) ? 'border-indigo bg-sheet' : 'border-line'}`}>
            <button type="button" aria-pressed={chosen.has(share.path)} onClick={() => onToggle(share.path)} className="touch flex min-h-10 w-full items-baseline gap-3 text-left">
              <span className="w-4 shrink-0 text-l font-bold text-indigo">{isActive && index < 9 ? index + 1 : ''}</span>
              <span className="min-w-0 break-words text-m"><strong>{shareName(share)}</strong> <span className="text-soft">{share.kind === 'home' && `${T.volumeShareKinds.home} · `}{T.volumeFiles(share.files)}, {bytes(share.size)}: {kinds(share)}</span></span>
            </button>
          </li>
        ))}
      </ul>
      <Saved rescues={volumes.rescues} ticket={ticket} opens={volumes.has_desktop && isSameComputer(location.hostname)} />
    </section>
  )
}

function Saved({ rescues, ticket, opens }: { rescues: Rescue[]; ticket: number; opens: boolean }) {
  const open = useOpenFolder(ticket)
  if (rescues.length === 0) return null
  return (
    <div className="mt-3" data-rescues>
      <h3 className="text-m font-bold">{T.volumeSaved}</h3>
      <ul>
        {rescues.map((r) => (
          <li key={r.id} className="border-l-[5px] border-line py-1 pl-3 text-m" data-rescue={r.state}>
            <p className="break-words"><span className="text-soft">{T.atBy(clock(r.at), r.by)}</span> <strong>{r.deleted ? T.volumeErased : r.what.length > 0 ? r.what.map((path) => (path === '?' ? T.volumeOrphans : path || T.volumeLoose)).join(', ') : T.volumeEverything}</strong> · {T.rescueStates[r.state] ?? r.state}</p>
            <p>{T.volumeSavedOf(r.files_done, r.files)}, {bytes(r.size_done)}{r.state === 'done' && ` · ${[T.volumeWhole(r.whole), r.holes > 0 && T.volumeHoles(r.holes), r.lost > 0 && T.volumeLost(r.lost)].filter(Boolean).join(', ')}`}</p>
            {r.not_whole.length > 0 && <ul aria-label={T.volumeNotWhole} className="text-s">{r.not_whole.slice(0, NAMED).map((path) => <li key={path} className="break-words text-brick">{path}</li>)}</ul>}
            {r.not_whole.length > NAMED && <p className="text-s text-soft">{T.andMore(r.holes + r.lost - NAMED)}</p>}
            {r.detail && <p className="text-soft">{r.detail}</p>}
            {r.state === 'done' && <p className="flex flex-wrap items-baseline gap-x-4"><Copyable text={r.folder} /><a href={`/api/tickets/${ticket}/volumes/rescues/${r.id}.zip`} download className="touch min-h-9 text-m text-indigo">{T.asZip}</a>{opens && <button type="button" onClick={() => open.mutate(r.id)} className="touch min-h-9 text-m text-indigo">{T.openFolder}</button>}</p>}
          </li>
        ))}
      </ul>
    </div>
  )
}
