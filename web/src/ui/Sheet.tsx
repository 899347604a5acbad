import { Dialog } from 'radix-ui'
import type { ReactNode } from 'react'

import { keyName } from '../lib/keymap'
import { T } from '../words'
import { Key } from './Key'

interface SheetProps {
  title: string
  isOpen: boolean
  onClose: () => void
  children: ReactNode
  wide?: boolean
  /** Keys are meant for the sheet itself: no field of it takes the focus when it opens. */
  calm?: boolean
}

/** A sheet of paper laid over the page from its right edge; Escape, or a tap, takes it away. */
export function Sheet({ title, isOpen, onClose, children, wide = false, calm = false }: SheetProps) {
  return (
    <Dialog.Root open={isOpen} onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/25 dark:bg-paper/70" />
        <Dialog.Content
          aria-describedby={undefined}
          onOpenAutoFocus={(event) => {
            if (!calm) return
            event.preventDefault()
            if (event.currentTarget instanceof HTMLElement && !event.currentTarget.contains(document.activeElement)) event.currentTarget.focus()
          }}
          className={`fixed inset-y-0 right-0 flex w-full flex-col overflow-y-auto border-l border-line bg-paper px-4 py-4 sm:px-8 sm:py-6 ${wide ? 'max-w-[860px]' : 'max-w-[560px]'}`}
        >
          <Dialog.Title className="mb-4 pr-28 text-xl font-semibold">{title}</Dialog.Title>
          {children}
          <Dialog.Close className="touch absolute right-4 top-4 inline-flex min-h-9 items-center gap-2 px-1 text-indigo sm:right-8 sm:top-5"><Key>{keyName('Escape')}</Key>{T.close}</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}
