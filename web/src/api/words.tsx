import { useSuspenseQuery } from '@tanstack/react-query'
import { createContext, useContext, useMemo, type ReactNode } from 'react'

import type { MoveWords, Words } from './client'
import { wordsQuery } from './queries'

interface Lexicon {
  words: Words
  /** A move's words; with a platform, in that platform's own where it has them. */
  move: (id: string, platform?: unknown) => MoveWords
  fault: (id: string) => string
  gate: (id: string) => string
}

const LexiconContext = createContext<Lexicon | null>(null)

/** Gives all below it the server's catalogue of gates, faults and moves. */
export function WordsProvider({ children }: { children: ReactNode }) {
  const { data: words } = useSuspenseQuery(wordsQuery)
  const lexicon = useMemo<Lexicon>(() => {
    const moves = new Map(words.moves.map((m) => [m.id, m]))
    const faults = new Map(words.faults.map((f) => [f.id, f.name]))
    const gates = new Map(words.gates.map((g) => [g.id, g.name]))
    return {
      words,
      move: (id, platform) => {
        const found = moves.get(id)
        if (!found) throw new Error(`no words for the move ${id}`)
        const own = words.platforms[String(platform)]?.[id]
        return own ? { ...found, ...own } : found
      },
      fault: (id) => faults.get(id) ?? id,
      gate: (id) => gates.get(id) ?? id,
    }
  }, [words])
  return <LexiconContext value={lexicon}>{children}</LexiconContext>
}

export function useWords(): Lexicon {
  const lexicon = useContext(LexiconContext)
  if (!lexicon) throw new Error('useWords outside WordsProvider')
  return lexicon
}
