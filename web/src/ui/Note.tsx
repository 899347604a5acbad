import type { ReactNode } from 'react'

/** Something that went wrong or has to be known, said once and plainly. */
export function Note({ title, children, tone = 'brick' }: { title: string; children?: ReactNode; tone?: 'brick' | 'ochre' | 'pine' }) {
  const colour = { brick: 'border-brick', ochre: 'border-ochre', pine: 'border-pine' }[tone]
  return (
    <div role="alert" className={`border-l-4 ${colour} bg-sheet px-3 py-2 text-s`}>
      <div className="text-m font-semibold">{title}</div>
      {children}
    </div>
  )
}
