import { useState } from 'react'

/** Whether the help lies open, for a page whose head has a button for it. */
export function useHelp(): { shows: boolean; set: (shows: boolean) => void } {
  const [shows, set] = useState(false)
  return { shows, set }
}
