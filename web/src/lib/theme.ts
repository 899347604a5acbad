const KEY = 'gatecheck-theme'
type Theme = 'light' | 'dark'

function preferred(): Theme {
  const kept = localStorage.getItem(KEY)
  if (kept === 'light' || kept === 'dark') return kept
  return matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light'
}

export function applyTheme(theme: Theme = preferred()): void {
  document.documentElement.dataset['theme'] = theme
}

export function toggleTheme(): void {
  const next: Theme = document.documentElement.dataset['theme'] === 'dark' ? 'light' : 'dark'
  localStorage.setItem(KEY, next)
  applyTheme(next)
}
