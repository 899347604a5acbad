import { RadioGroup } from 'radix-ui'
import { useState, type KeyboardEvent } from 'react'

import { keyOfEvent, TARGET_KEYS } from '../lib/keymap'

interface ChoiceProps {
  label: string
  value: string
  options: readonly { value: string; label: string }[]
  onValueChange: (value: string) => void
}

/** One of a few, all in sight: tap it, walk with the arrow keys, or press its number while the row has the focus. */
export function Choice({ label, value, options, onValueChange }: ChoiceProps) {
  const [isAt, setAt] = useState(false)
  const handleKey = (event: KeyboardEvent) => {
    const option = options[TARGET_KEYS.indexOf(keyOfEvent(event.nativeEvent))]
    if (!option || event.ctrlKey || event.metaKey || event.altKey) return
    event.preventDefault()
    event.stopPropagation()
    onValueChange(option.value)
  }
  return (
    <div className="mb-3" onFocus={() => setAt(true)} onBlur={() => setAt(false)} onKeyDown={handleKey}>
      <div className="mb-1 text-s font-semibold text-soft">{label}</div>
      <RadioGroup.Root aria-label={label} value={value} onValueChange={onValueChange} className="flex flex-wrap gap-1.5">
        {options.map((option, index) => (
          <RadioGroup.Item
            key={option.value}
            value={option.value} aria-label={option.label}
            className="touch relative min-h-10 rounded border border-line bg-sheet px-3 py-1.5 text-m data-[state=checked]:border-indigo data-[state=checked]:bg-indigo data-[state=checked]:text-paper"
          >
            {/* its digit has a place of its own from the start: nothing may move between press and release */}
            {TARGET_KEYS[index] && <span aria-hidden className={`hotkey absolute right-1 top-0 text-[11px] leading-[14px] font-semibold ${isAt ? '' : 'invisible'}`}>{TARGET_KEYS[index]}</span>}
            {option.label}
          </RadioGroup.Item>
        ))}
      </RadioGroup.Root>
    </div>
  )
}
