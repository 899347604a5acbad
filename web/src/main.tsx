import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'

import { App } from './App'
import { applyTheme } from './lib/theme'
import './styles.css'

// style sheets that a component makes while it runs carry the answer's nonce; nothing else inline is allowed (the key is the one its package looks for)
Object.assign(globalThis, { __webpack_nonce__: document.querySelector<HTMLMetaElement>('meta[name=nonce]')?.content })
applyTheme()
// on a secure page it can be installed, and says so itself where the server cannot be reached
if (import.meta.env.PROD && 'serviceWorker' in navigator) void navigator.serviceWorker.register('/sw.js').catch(() => undefined)
const cache = new QueryClient({
  defaultOptions: { queries: { retry: 1, staleTime: 5_000, networkMode: 'always', refetchOnWindowFocus: true } },
})
const root = document.getElementById('root')
if (!root) throw new Error('index.html has no #root')
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={cache}>
      <App />
    </QueryClientProvider>
  </StrictMode>,
)
