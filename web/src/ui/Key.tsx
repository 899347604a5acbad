/** A key as it is drawn beside what it does. */
export function Key({ children }: { children: string }) {
  return (
    <kbd className="hotkey inline-block min-w-[22px] rounded border border-line px-1.5 text-center font-sans text-s leading-[19px] text-ink">
      {children}
    </kbd>
  )
}

interface KeyActionProps {
  hotkey: string
  label: string
  onPress: () => void
  strong?: boolean
}

/** Something one can press, by hand or by its key. */
export function KeyAction({ hotkey, label, onPress, strong = false }: KeyActionProps) {
  return (
    <button type="button" onClick={onPress} className="touch inline-flex min-h-9 items-center gap-2 rounded px-1">
      {hotkey && <span className="max-md:hidden"><Key>{hotkey}</Key></span>}
      <span className={strong ? 'font-semibold text-indigo' : 'text-indigo'}>{label}</span>
    </button>
  )
}
