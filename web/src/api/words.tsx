import { useQuery } from '@tanstack/react-query'
import { createContext, useContext, useMemo, type ReactNode } from 'react'

import type { MoveWords, Words } from './client'
import { T } from '../words'
import { wordsQuery } from './queries'

interface Lexicon {
  words: Words
  /** A move's words; with a platform, in that platform's own where it has them. */
  move: (id: string, platform?: unknown) => MoveWords
  fault: (id: string) => string
  gate: (id: string) => string
}

const LexiconContext = createContext<Lexicon | null>(null)

/** Gives all below it the server's catalogue of gates, faults and moves; throws where there is no answer. Waits without a suspense: what comes after one is held back for 300 ms, idle. */
export function WordsProvider({ children }: { children: ReactNode }) {
  const { data: words, error } = useQuery(wordsQuery)
  const lexicon = useMemo(() => (words ? lexiconOf(words) : null), [words])
  if (!lexicon && error) throw error
  return lexicon ? <LexiconContext value={lexicon}>{children}</LexiconContext> : <p className="p-8 text-l text-soft">{T.loading}</p>
}

function lexiconOf(words: Words): Lexicon {
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
}

export function useWords(): Lexicon {
  const lexicon = useContext(LexiconContext)
  if (!lexicon) throw new Error('useWords outside WordsProvider')
  return lexicon
}
