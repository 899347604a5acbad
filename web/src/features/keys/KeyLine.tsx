import type { TriedKey } from '../../api/client'
import { percent } from '../../lib/format'
import { T } from '../../words'

/** A key on the sick machine's keyboard, how likely it is, and who has tried it. */
export function KeyLine({ tried, strong }: { tried: TriedKey; strong: boolean }) {
  const from = T.keyFrom[tried.level]?.(T.ofTried(tried.worked, tried.tried)) ?? ''
  return (
    <span className="inline-flex items-baseline gap-2">
      <kbd className={`rounded-md border-2 border-b-4 border-ink bg-sheet px-2 font-sans ${strong ? 'text-xl font-bold' : 'text-m'}`}>{tried.key}</kbd>
      <span className="text-s text-soft">{percent(tried.p)} · {from}</span>
    </span>
  )
}
