import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { BrowserRouter } from 'react-router'

import { Problem } from './api'
import { App } from './App'
import './style.css'
import { applyTheme } from './theme'

applyTheme()

const queries = new QueryClient({
  defaultOptions: {
    queries: {
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
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  )
}
