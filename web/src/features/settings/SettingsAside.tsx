import type { CapturedFirmware, Settings } from '../../api/client'
import { T } from '../../words'

const TONE: Record<string, string> = { contradiction: 'border-brick', root: 'border-ochre', hint: 'border-line' }

function Captured({ captured }: { captured: CapturedFirmware }) {
  return (
    <section aria-label={T.capturedFirmware} className="mt-5">
      <h2 className="mb-1 text-s font-bold text-soft">{T.capturedFirmware}</h2>
      <p className="mb-1 text-m">{[captured.maker, captured.product, captured.firmware].filter(Boolean).join(' ')}</p>
      {captured.secure_boot !== null && <p className="mb-1 text-m">{T.secureBootIs(captured.secure_boot)}</p>}
      <ol aria-label={T.bootEntries} className="text-s">
        {captured.entries.map((entry) => (
          <li key={entry.name} title={entry.path} className={`flex gap-2 border-b border-hair py-1 ${entry.active && entry.place !== null ? '' : 'text-soft'}`}>
            <span className="w-4 shrink-0 text-right">{entry.place === null ? '·' : entry.place + 1}</span>
            <span className="min-w-0 flex-1 truncate">{entry.description || entry.name}</span>
            <span className={entry.target === 'stale' ? 'font-bold text-brick' : 'text-soft'}>{entry.active ? T.entryTargets[entry.target] : T.inactive}</span>
          </li>
        ))}
      </ol>
      <p className="mt-1 truncate text-s text-soft">{T.fromFile}: {captured.file}</p>
    </section>
  )
}

/** What the rows say together, roots first, and what a capture told of the firmware. */
export function SettingsAside({ sheet }: { sheet: Settings }) {
  return (
    <>
      {sheet.together.map((item) => (
        <div key={item.id} data-together={item.id} className={`mb-2 border-l-4 ${TONE[item.kind]} bg-paper px-3 py-2`}>
          <p className="text-s font-bold text-soft">{T.together[item.kind]}</p>
          <p className="text-m font-semibold">{item.text}</p>
          <p className="text-m">{item.means}</p>
          {item.elsewhere && <p data-elsewhere className="mt-1 text-m font-semibold">{item.elsewhere}</p>}
        </div>
      ))}
      {sheet.together.length === 0 && sheet.rows.some((r) => r.now) && <p className="text-m text-soft">{T.nothingTogether}</p>}
      {sheet.captured && <Captured captured={sheet.captured} />}
    </>
  )
}
