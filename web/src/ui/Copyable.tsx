import { useState } from 'react'

import { T } from '../words'

/** A path, a serial number, a line to type: tapped it is on the clipboard. */
export function Copyable({ text, className = 'break-all font-mono text-s text-soft' }: { text: string; className?: string }) {
  const [isCopied, setCopied] = useState(false)
  const copy = () => void navigator.clipboard?.writeText(text).then(() => setCopied(true), () => setCopied(false))
  return (
    <button type="button" onClick={copy} title={T.copyIt} className="touch min-h-6 text-left">
      <span className={`select-all ${className}`}>{text}</span> <span role="status" className="text-s text-indigo">{isCopied ? T.copied : T.copyIt}</span>
    </button>
  )
}
