import { useIsMutating } from '@tanstack/react-query'
import { useEffect } from 'react'
import { useLocation } from 'wouter'

import { Drafts, mayReload } from '../lib/drafts'

const drafts = new Drafts()
document.addEventListener('input', ({ target }) => {
  if (target instanceof HTMLInputElement || target instanceof HTMLTextAreaElement) drafts.typed(target)
})

/** Loads the page anew once the server runs a newer program, at a moment that loses nothing. */
export function useReload(isNewer: boolean): void {
  const sending = useIsMutating()
  const [path] = useLocation()
  useEffect(() => {
    if (!isNewer) return
    const look = () => {
      const dialog = document.querySelector('[role=dialog], [role=alertdialog]') !== null
      if (mayReload({ drafts: drafts.any(), dialog, sending, path })) location.reload()
    }
    look()
    for (const event of ['focusout', 'click', 'visibilitychange']) document.addEventListener(event, look)
    return () => {
      for (const event of ['focusout', 'click', 'visibilitychange']) document.removeEventListener(event, look)
    }
  }, [isNewer, sending, path])
}
