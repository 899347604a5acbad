import { percent } from '../lib/format'

/** How far something is: a bar, its share, and in words how much of how much. */
export function Share({ done, of, label, text }: { done: number; of: number; label: string; text?: string }) {
  const share = Math.min(1, done / Math.max(1, of))
  return (
    <div className="my-1 flex w-full max-w-xl items-center gap-3">
      <div className="h-1.5 flex-1 rounded-full bg-hair" role="progressbar" aria-label={label} aria-valuenow={Math.round(share * 100)} aria-valuemin={0} aria-valuemax={100}>
        <div className="h-full rounded-full bg-ink moves" style={{ width: `${share * 100}%` }} />
      </div>
      <span className="text-m tabular-nums">{percent(share)}{text && <span className="text-soft"> · {text}</span>}</span>
    </div>
  )
}
