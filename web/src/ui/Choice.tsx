import { RadioGroup } from 'radix-ui'

interface ChoiceProps {
  label: string
  value: string
  options: readonly { value: string; label: string }[]
  onValueChange: (value: string) => void
}

/** One of a few, all in sight: tap it, or walk with the arrow keys. */
export function Choice({ label, value, options, onValueChange }: ChoiceProps) {
  return (
    <div className="mb-3">
      <div className="mb-1 text-s font-semibold text-soft">{label}</div>
      <RadioGroup.Root aria-label={label} value={value} onValueChange={onValueChange} className="flex flex-wrap gap-1.5">
        {options.map((option) => (
          <RadioGroup.Item
            key={option.value}
            value={option.value}
            className="min-h-10 rounded border border-line bg-sheet px-3 py-1.5 text-m data-[state=checked]:border-indigo data-[state=checked]:bg-indigo data-[state=checked]:text-paper"
          >
            {option.label}
          </RadioGroup.Item>
        ))}
      </RadioGroup.Root>
    </div>
  )
}
