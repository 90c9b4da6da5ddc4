import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { setNonce } from 'get-nonce'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'

import { Problem } from './api/client'
import { App } from './App'
import './style.css'
import { applyTheme } from './theme'

// What libraries write of styles bears the word of this page's answer; the service lets no others count.
setNonce(document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? '')

applyTheme()

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000, // what changes is told by the stream
      // What the service refused it will refuse again.
      retry: (count, error) => !(error instanceof Problem && error.status < 500) && count < 2,
    },
  },
})

const root = document.getElementById('root')
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        {/* What is typed into a field that the address keeps must be there at once, or letters are lost. */}
        <BrowserRouter useTransitions={false}>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  )
}
