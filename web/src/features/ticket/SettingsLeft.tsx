import type { Settings } from '../../api/client'
import { useWords } from '../../api/words'
import { T } from '../../words'

/** Every setting that was read or changed: as found, as left. */
export function SettingsLeft({ left }: { left: Settings['left'] }) {
  const { words } = useWords()
  const name = (value: string | null) => (value ? words.values[value] ?? value : '?')
  return (
    <section aria-label={T.leftTitle} className="mt-5">
      <h3 className="mb-1 text-s font-bold text-soft">{T.leftTitle}</h3>
      <dl className="grid grid-cols-[160px_1fr] gap-x-4 text-m">
        {left.map((line) => (
          <div key={line.row} className="contents">
            <dt className="border-b border-hair py-1 text-soft">{line.name}</dt>
            <dd className={`border-b border-hair py-1 ${line.found === line.left ? '' : 'font-semibold'}`}>
              {T.leftLine(name(line.found), name(line.left))}
              {line.tried.length > 0 && <span className="font-normal text-soft"> · {T.leftTried(line.tried.map(name).join(', '))}</span>}
            </dd>
          </div>
        ))}
      </dl>
    </section>
  )
}
