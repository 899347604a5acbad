/** Nine fields of the side that lies up, as on a telephone: where something was. */
export function Nine({ fields, size = 14 }: { fields: readonly number[]; size?: number }) {
  const step = size + 3
  return (
    <svg width={step * 3} height={size * 1.9 + 8} aria-hidden className="shrink-0">
      {Array.from({ length: 9 }, (_, index) => (
        <rect
          key={index} x={(index % 3) * step + 0.5} y={Math.floor(index / 3) * (size * 0.62 + 3) + 0.5} width={size} height={size * 0.62} rx={2}
          className={fields.includes(index + 1) ? 'fill-ink stroke-ink' : 'fill-none stroke-line'}
        />
      ))}
    </svg>
  )
}

/** Screws as they lie there; beyond a dozen their number says it. */
export function Screws({ count, kind }: { count: number; kind: string }) {
  const shown = Math.min(count, 12)
  const length = Math.min(14, 4 + (Number.parseFloat(kind) || 5))
  return (
    <svg width={shown * 14 + 2} height={26} aria-hidden className="shrink-0">
      {Array.from({ length: shown }, (_, index) => (
        <g key={index} transform={`translate(${index * 14 + 7}, 6)`} className="stroke-ink">
          <circle r={5} className="fill-none" strokeWidth={1.6} />
          <line x1={-3} x2={3} y1={0} y2={0} strokeWidth={1.4} />
          <line y1={5} y2={5 + length} strokeWidth={2.4} />
        </g>
      ))}
    </svg>
  )
}
