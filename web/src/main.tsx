import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'

import { App } from './App'
import { applyTheme } from './lib/theme'
import './styles.css'

applyTheme()
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
