import { useState } from 'react'

import { useBookKeys, useBookModels } from '../../api/queries'
import { Choice } from '../../ui/Choice'
import { Sheet } from '../../ui/Sheet'
import { factName, factValue, T } from '../../words'
import { KeyLine } from './KeyLine'

const upper = (text: string): string => text.replace(/(^|[\s-])\w/g, (letter) => letter.toUpperCase())

/** The shop's book of keys: any model, what opens what, and what the answer rests on. */
export function KeyBookSheet({ onClose }: { onClose: () => void }) {
  const [machine, setMachine] = useState('')
  const [platform, setPlatform] = useState('pc')
  const { data } = useBookKeys(machine, platform)
  const { data: models = [] } = useBookModels()
  return (
    <Sheet title={T.keyBookTitle} isOpen onClose={onClose} wide>
      <p className="-mt-3 mb-3 text-s text-soft">{T.keyBookHint}</p>
      <input
        autoFocus aria-label={T.keyBookAsk} placeholder={T.keyBookAsk} value={machine} list="tried-models" onChange={(e) => setMachine(e.target.value)}
        className="mb-3 w-full rounded border border-line bg-sheet px-3 py-2 text-l"
      />
      <datalist id="tried-models">{models.map((m) => <option key={`${m.maker} ${m.model}`} value={upper(`${m.maker} ${m.model}`)} />)}</datalist>
      <Choice
        label={factName('platform')} value={platform} onValueChange={setPlatform}
        options={['pc', 'mac'].map((value) => ({ value, label: factValue(value) }))}
      />
      {data?.purposes.filter((p) => p.keys.length > 0).map((p) => (
        <section key={p.purpose} aria-label={p.name} className="border-b border-hair py-2.5">
          <h3 className="mb-1 text-m font-bold">{p.name}</h3>
          <p className="flex flex-wrap gap-x-5 gap-y-1.5">{p.keys.slice(0, 5).map((k, index) => <KeyLine key={k.key} tried={k} strong={index === 0} />)}</p>
        </section>
      ))}
      {models.length > 0 && (
        <>
          <h3 className="mb-1 mt-4 text-s font-bold text-soft">{T.keyBookModels}</h3>
          <ul className="flex flex-wrap gap-1.5">
            {models.map((m) => (
              <li key={`${m.maker} ${m.model}`}>
                <button
                  type="button" onClick={() => { setMachine(upper(`${m.maker} ${m.model}`)); setPlatform(m.platform) }}
                  className="min-h-9 rounded border border-line bg-sheet px-2.5 text-s"
                >
                  {upper(`${m.maker} ${m.model}`)} <span className="text-soft">{T.tries(m.tries)}</span>
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
    </Sheet>
  )
}
