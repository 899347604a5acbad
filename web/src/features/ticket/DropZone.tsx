import { useState, type DragEvent, type ReactNode } from 'react'

import { T } from '../../words'

/** Takes files dropped anywhere on the page. */
export function DropZone({ onFile, children }: { onFile?: (file: File) => void; children: ReactNode }) {
  const [isOver, setOver] = useState(false)
  const handleDrop = (event: DragEvent) => {
    event.preventDefault()
    setOver(false)
    for (const file of event.dataTransfer.files) onFile?.(file)
  }
  return (
    <div
      data-drop-zone className="relative flex h-full flex-col"
      onDragOver={(e) => { e.preventDefault(); setOver(onFile !== undefined) }}
      onDragLeave={(e) => { if (e.currentTarget === e.target) setOver(false) }}
      onDrop={handleDrop}
    >
      {children}
      {isOver && (
        <div className="pointer-events-none absolute inset-3 flex items-center justify-center rounded-lg border-2 border-dashed border-indigo bg-paper/90 text-xl font-semibold text-indigo">
          {T.drop}
        </div>
      )}
    </div>
  )
}
