import { commandsOf, keyName, type Command, type PageId } from '../lib/keymap'
import { T } from '../words'
import { GateMark } from './GateMark'
import { Key } from './Key'
import { Sheet } from './Sheet'

interface HelpSheetProps {
  page: PageId
  handlers: Record<string, ((event?: KeyboardEvent) => void) | undefined>
  onClose: () => void
}

function GateArms() {
  return (
    <section aria-label={T.helpGates} className="mt-5">
      <h3 className="mb-1 text-s font-bold text-soft">{T.helpGates}</h3>
      <ul className="grid gap-1 sm:grid-cols-2">
        {Object.entries(T.gateSays).map(([state, says]) => (
          <li key={state} className="flex items-center gap-3 text-m">
            <svg width="44" height="40" viewBox="0 0 44 40" aria-hidden><GateMark state={state} x={22} y={26} half={13} post={8.5} /></svg>
            <span>{says}</span>
          </li>
        ))}
      </ul>
      <p className="mt-1 text-m text-soft">{T.ridgeSays}</p>
    </section>
  )
}

/** The keys and the words of the page one is on. A command that the page can do now can be used from here. */
export function HelpSheet({ page, handlers, onClose }: HelpSheetProps) {
  const words = T.glossary[page] ?? []
  return (
    <Sheet title={T.helpTitle(T.helpPages[page] ?? page)} isOpen onClose={onClose} wide>
      <p className="-mt-3 mb-2 text-s text-soft">{T.helpKeys}</p>
      <ul className="grid gap-x-6 sm:grid-cols-2">
        {(commandsOf(page) as [string, Command][]).map(([id, command]) => {
          const act = id === 'help' ? undefined : handlers[id]
          return (
            <li key={id} className="border-b border-hair">
              <button
                type="button" disabled={!act} onClick={() => { onClose(); act?.() }}
                className={`flex min-h-11 w-full items-center gap-2.5 text-m ${act ? 'text-indigo' : 'text-soft'}`}
              >
                <span data-keys className="flex w-16 shrink-0 gap-1">{command.keys.map((key) => <Key key={key}>{keyName(key)}</Key>)}</span>
                {command.label}
              </button>
            </li>
          )
        })}
      </ul>
      {page !== 'odds' && <GateArms />}
      {words.length > 0 && (
        <section aria-label={T.helpWords} className="mt-5">
          <h3 className="mb-1 text-s font-bold text-soft">{T.helpWords}</h3>
          <dl className="text-m">
            {words.map(([word, says]) => (
              <div key={word} className="border-b border-hair py-1.5 sm:grid sm:grid-cols-[180px_1fr] sm:gap-4"><dt className="font-semibold">{word}</dt><dd>{says}</dd></div>
            ))}
          </dl>
        </section>
      )}
    </Sheet>
  )
}
