import type { RepairGroup, VolumeLook, VolumeRepair, Volumes } from '../../api/volumeQueries'
import { bytes, clock } from '../../lib/format'
import { Do } from '../../ui/Commands'
import { T } from '../../words'

const TOUCHES = 6

interface RepairProps { volumes: Volumes; look: VolumeLook; toggled: ReadonlySet<string>; isActive: boolean; isArmed: boolean; inHand: string | null; onToggle: (id: string) => void; onHand: (id: string) => void }

/** Whether a repair is ticked: those that lose nothing are, until somebody says otherwise. */
export const isTicked = (group: RepairGroup, toggled: ReadonlySet<string>): boolean => group.is_ticked !== toggled.has(group.id)

/** What can be repaired, each ticked or not; what was written, and how to undo it. */
export function Repair({ volumes, look, toggled, isActive, isArmed, inHand, onToggle, onHand }: RepairProps) {
  const taken = look.groups.filter((g) => isTicked(g, toggled))
  return (
    <section aria-label={T.volumeRepair} data-repair data-active={isActive} className={`border-t-2 pt-2 ${isActive ? 'border-ink' : 'border-line'}`}>
      <div className="flex flex-wrap items-baseline justify-between gap-x-5">
        <h2 className="text-l font-bold">{T.volumeRepair}</h2>
        {!isActive && <Do of="volume" id="side" label={T.volumeSideRepair} />}
      </div>
      {look.refused && <p className="border-l-4 border-brick bg-sheet px-3 py-1.5 text-m">{look.refused}</p>}
      {look.groups.length > 0 && <p className="text-s text-soft">{T.volumeRepairHint}</p>}
      {taken.length > 0 && taken.length === look.groups.length && <p className="mt-1 text-m">{T.volumeAfter[look.state_after]}</p>}
      {volumes.held.repair ? look.groups.length > 0 && <p className="mt-1 border-l-4 border-brick bg-sheet px-3 py-1.5 text-m"><strong>{T.pathHeld}</strong>: {volumes.held.repair} <Do of="volume" id="facts" label={T.unblockFacts} /><Do of="volume" id="surface" label={T.unblockCopy} /></p> : !isArmed && <div className="mt-1 flex flex-wrap gap-x-5"><Do of="volume" id="repair" strong /></div>}
      <ol className="mt-1">
        {look.groups.map((group, index) => (
          <Group key={group.id} group={group} hotkey={isActive && index < 9 ? String(index + 1) : ''} isTaken={isTicked(group, toggled)} isOpen={inHand === group.id} onToggle={() => onToggle(group.id)} onHand={() => onHand(group.id)} />
        ))}
      </ol>
      {look.left.length > 0 && (
        <div className="mt-2">
          <h3 className="text-m font-bold">{T.volumeStays}</h3>
          <ul className="text-m text-soft">{look.left.slice(0, TOUCHES).map((text) => <li key={text}>{text}</li>)}</ul>
        </div>
      )}
      <Written of="volume" repairs={volumes.repairs} />
    </section>
  )
}

function Tick({ isOn }: { isOn: boolean }) {
  return (
    <svg viewBox="0 0 16 16" aria-hidden className="size-4 shrink-0 translate-y-0.5">
      <rect x="1" y="1" width="14" height="14" rx="3" className={`stroke-2 ${isOn ? 'fill-indigo stroke-indigo' : 'fill-none stroke-soft'}`} />
      {isOn && <path d="M4 8.5l2.8 2.8L12 5.5" className="fill-none stroke-sheet stroke-2" />}
    </svg>
  )
}

interface GroupProps { group: RepairGroup; hotkey: string; isTaken: boolean; isOpen: boolean; onToggle: () => void; onHand: () => void }

function Group({ group, hotkey, isTaken, isOpen, onToggle, onHand }: GroupProps) {
  return (
    <li data-group={group.id} className={`border-l-[5px] pl-3 ${isOpen ? 'border-indigo bg-sheet' : 'border-line'} ${isTaken ? '' : 'text-soft'}`}>
      <div className="flex items-baseline gap-3">
        <button type="button" role="checkbox" aria-checked={isTaken} onClick={onToggle} className="touch flex min-h-10 min-w-0 flex-1 items-baseline gap-3 text-left">
          <span className="w-4 shrink-0 text-l font-bold text-indigo">{hotkey}</span>
          <Tick isOn={isTaken} />
          <span className="min-w-0 text-m"><strong className={isTaken ? '' : 'font-normal'}>{group.what}</strong></span>
        </button>
        <button type="button" aria-expanded={isOpen} aria-label={`${T.volumeTouches}: ${group.what}`} onClick={onHand} className="touch min-h-10 shrink-0 px-1 text-m text-indigo">{isOpen ? T.close : T.show}</button>
      </div>
      {(isTaken || group.loses) && group.doubts.map((doubt) => <p key={doubt} className="pl-14 text-m"><span className={`font-bold ${group.loses ? 'text-brick' : 'text-ochre'}`}>{group.loses ? T.volumeLoses : T.pathDoubt}</span> {doubt}</p>)}
      {isOpen && (
        <div className="pb-1 pl-7 pr-2 text-m">
          <p className="text-soft">{T.volumeWrites(group.writes, bytes(group.size), group.fields.join(', '))}</p>
          {group.touches.length > 0 && (
            <ul aria-label={T.volumeTouches}>
              {group.touches.slice(0, TOUCHES).map((path) => <li key={path} className="break-words">{path}</li>)}
              {group.touches.length > TOUCHES && <li className="text-soft">{T.andMore(group.touches.length - TOUCHES)}</li>}
            </ul>
          )}
        </div>
      )}
    </li>
  )
}

/** What was written to a volume, and the way to undo it. */
export function Written({ of, repairs }: { of: 'volume' | 'records'; repairs: readonly VolumeRepair[] }) {
  if (repairs.length === 0) return null
  return (
    <div className="mt-3" data-repairs>
      <h3 className="text-m font-bold">{T.volumeWritten}</h3>
      <ul>
        {repairs.map((r) => (
          <li key={r.id} className="py-0.5 text-m" data-repaired={r.state}>
            <span className="text-soft">{T.atBy(clock(r.at), r.by)}</span> {r.reverts ? T.pathTookBack(r.what) : r.what} · {T.mendStates[r.state] ?? r.state}{r.taken_back && `, ${T.pathTakenBack}`} · {bytes(r.size)}{r.detail && ` · ${r.detail}`}
          </li>
        ))}
      </ul>
      <Do of={of} id="takeBack" />
    </div>
  )
}
