import type { ReactNode } from 'react'

type Tone = 'brick' | 'ochre' | 'pine'

const COLOUR: Record<Tone, string> = { brick: 'border-brick', ochre: 'border-ochre', pine: 'border-pine' }

/** Something that went wrong or has to be known, said once and plainly. Only what went wrong interrupts a reader of the screen. */
export function Note({ title, children, tone = 'brick' }: { title: string; children?: ReactNode; tone?: Tone }) {
  return (
    <div role={tone === 'brick' ? 'alert' : 'status'} className={`border-l-4 ${COLOUR[tone]} bg-sheet px-3 py-2 text-m`}>
      <div className="text-m font-semibold">{title}</div>
      {children}
    </div>
  )
}
