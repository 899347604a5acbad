const KEY = 'gatecheck-initials'

/** Initials of whoever works at this screen. */
export function initials(): string {
  return localStorage.getItem(KEY) ?? 'me'
}

export function setInitials(text: string): void {
  const trimmed = text.trim().slice(0, 6)
  if (trimmed) localStorage.setItem(KEY, trimmed)
}
