/** 0.864 -> "86 %"; what is not quite certain never reads as 0 or 100. */
export function percent(p: number): string {
  if (p > 0.995 && p < 1) return '> 99 %'
  if (p > 0 && p < 0.005) return '< 1 %'
  return `${Math.round(p * 100)} %`
}

/** Minutes as people say them: "12 min", "1 h 50 min". */
export function minutes(m: number): string {
  const whole = Math.max(1, Math.round(m))
  if (whole < 90) return `${whole} min`
  const rest = whole % 60
  return rest ? `${Math.floor(whole / 60)} h ${rest} min` : `${whole / 60} h`
}

/** A factor on the odds: "×9" for it, "÷9" against it. */
export function factor(f: number): string {
  const size = f >= 1 ? f : 1 / f
  const shown = size >= 1000 ? '> 999' : size >= 9.5 ? String(Math.round(size)) : size.toFixed(1).replace(/\.0$/, '')
  return `${f >= 1 ? '×' : '÷'}${shown}`
}

/** Local clock time of a stored moment. */
export function clock(iso: string): string {
  return new Date(iso).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', hour12: false })
}

/** A day, the same on every screen: of a stored moment the local one, of a date that day. */
export const day = (iso: string): string =>
  new Date(iso).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', year: 'numeric', ...(iso.length === 10 && { timeZone: 'UTC' }) })

/** Bytes in the decimal units drives are sold in. */
export function bytes(count: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB', 'PB']
  let value = count
  let unit = 0
  while (value >= 1000 && unit < units.length - 1) {
    value /= 1000
    unit += 1
  }
  return `${value >= 100 || unit === 0 ? Math.round(value) : value.toFixed(1)} ${units[unit]}`
}

export const lowerFirst = (text: string): string =>
  /^[A-Z][a-z ]/.test(text) ? text.charAt(0).toLowerCase() + text.slice(1) : text

export const upperFirst = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1)

/** The day and the time, as a bench says it. */
export const today = (): string =>
  `${new Date().toLocaleDateString([], { weekday: 'long' })} ${new Date().toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', hour12: false })}`

/** A key that makes a repeated request harmless. */
export const requestKey = (): string => Array.from(crypto.getRandomValues(new Uint8Array(16)), (byte) => byte.toString(16).padStart(2, '0')).join('')

/** The page was asked for at this very computer's own address. */
export const isSameComputer = (host: string): boolean => host === 'localhost' || host === '[::1]' || /^127(\.\d+){3}$/.test(host)
