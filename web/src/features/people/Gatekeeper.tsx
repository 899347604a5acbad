import { useQuery, useQueryClient } from '@tanstack/react-query'
import type { ReactNode } from 'react'

import { api, AwayError } from '../../api/client'
import { setInitials } from '../../lib/person'
import { T } from '../../words'
import { PairPage } from './PairPage'
import { SignIn } from './SignIn'
import { keys } from '../../api/keys'

/** Lets the bench's own computer and paired devices through; any other device sees how it is paired, and nothing else. */
export function Gatekeeper({ children }: { children: ReactNode }) {
  const cache = useQueryClient()
  const { data: me, error } = useQuery({
    queryKey: keys.me(),
    queryFn: async () => {
      const found = await api.me()
      if (found.initials) setInitials(found.initials)
      return found
    },
    retry: (_, failed) => failed instanceof AwayError, retryDelay: 2000, staleTime: 60_000,
  })
  if (error) return <p role="alert" className="p-8 text-l">{error.message}</p>
  if (!me) return <p className="p-8 text-l text-soft">{T.loading}</p>
  if (!me.here && !me.paired) return <PairPage onPaired={() => void cache.resetQueries()} />
  return <>{children}<SignIn /></>
}
