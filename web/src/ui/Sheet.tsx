import { Dialog } from 'radix-ui'
import type { ReactNode } from 'react'

interface SheetProps {
  title: string
  isOpen: boolean
  onClose: () => void
  children: ReactNode
  wide?: boolean
}

/** A sheet of paper laid over the page from its right edge; Escape takes it away. */
export function Sheet({ title, isOpen, onClose, children, wide = false }: SheetProps) {
  return (
    <Dialog.Root open={isOpen} onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/25 dark:bg-paper/70" />
        <Dialog.Content
          aria-describedby={undefined}
          className={`fixed inset-y-0 right-0 flex w-full flex-col overflow-y-auto border-l border-line bg-paper px-8 py-6 ${wide ? 'max-w-[860px]' : 'max-w-[560px]'}`}
        >
          <Dialog.Title className="mb-4 text-xl font-semibold">{title}</Dialog.Title>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}
