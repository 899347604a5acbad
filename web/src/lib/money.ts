interface Charges { currency: string; locale?: string }

/** ISO 4217: no currency, and its sign, as the papers write it. */
const NONE = 'XXX', SIGN = '¤'

/** An amount in the shop's currency (ISO 4217), as the browser's language writes it; with the sign of no currency where none is set. */
export function money(amount: number, { currency }: Charges, whole = false): string {
  const digits = whole ? { maximumFractionDigits: 0 } : { minimumFractionDigits: 2, maximumFractionDigits: 2 }
  const bare = () => new Intl.NumberFormat(navigator.language, digits).format(amount)
  if (currency === NONE) return `${SIGN}${bare()}`
  try {
    return new Intl.NumberFormat(navigator.language, { style: 'currency', currency, currencyDisplay: 'narrowSymbol', ...(whole && { maximumFractionDigits: 0 }) }).format(amount)
  } catch {
    return bare()
  }
}
