import type { KeyboardEvent } from 'react'

import type { KnownEntry } from '../../api/client'
import { T } from '../../words'

interface FieldProps {
  label: string
  value: string
  onChange: (value: string) => void
  autoFocus?: boolean
  required?: boolean
  className?: string
  onKeyDown?: (event: KeyboardEvent) => void
}

export function TextField({ label, value, onChange, autoFocus = false, required = false, className = '', onKeyDown }: FieldProps) {
  return (
    <label className={`mb-3 block ${className}`}>
      <span className="mb-1 block text-s font-semibold text-soft">{label}</span>
      <input
        autoFocus={autoFocus} required={required} value={value} maxLength={200} autoComplete="off" onChange={(e) => onChange(e.target.value)} onKeyDown={onKeyDown}
        className="w-full rounded border border-line bg-sheet px-3 py-2 text-l"
      />
    </label>
  )
}

interface KnownFieldProps {
  label: string
  value: string
  /** What it may become, the likeliest first. */
  known: readonly KnownEntry[]
  onChange: (value: string) => void
  onTake: (entry: KnownEntry) => void
  autoFocus?: boolean
}

/** A field that knows what was here before: Tab takes the first, a tap any; typing on ignores them. */
export function KnownField({ label, value, known, onChange, onTake, autoFocus = false }: KnownFieldProps) {
  const first = value.trim().length > 1 ? known[0] : undefined
  const handleKey = (event: KeyboardEvent) => {
    if (event.key === 'Tab' && !event.shiftKey && first) onTake(first)
  }
  return (
    <div className="min-w-[220px] flex-1">
      <TextField label={label} value={value} onChange={onChange} autoFocus={autoFocus} required onKeyDown={handleKey} className="mb-1" />
      <p aria-live="polite" className="mb-2 flex min-h-8 flex-wrap items-baseline gap-x-3 text-s">
        {first && <span className="text-soft">{T.knownTake}:</span>}
        {first && known.slice(0, 3).map((entry) => (
          <button key={`${entry.name} ${entry.machine}`} type="button" tabIndex={-1} onClick={() => onTake(entry)} className="touch min-h-7 text-indigo">
            {entry.name}{entry.machine !== entry.name && <span className="text-soft"> · {entry.machine}</span>}
          </button>
        ))}
      </p>
    </div>
  )
}
