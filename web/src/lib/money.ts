interface Charges { currency: string; locale?: string }

/** An amount in the shop's currency (ISO 4217), as the browser's language writes it; the bare number where that is no currency yet. */
export function money(amount: number, { currency }: Charges, whole = false): string {
  try {
    return new Intl.NumberFormat(navigator.language, { style: 'currency', currency, currencyDisplay: 'narrowSymbol', ...(whole && { maximumFractionDigits: 0 }) }).format(amount)
  } catch {
    return amount.toFixed(whole ? 0 : 2)
  }
}
