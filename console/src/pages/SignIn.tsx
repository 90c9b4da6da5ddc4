import { useState } from 'react'

import { useSignIn, useSignInWays } from '../api/session'

export function SignIn() {
  const [token, setToken] = useState('')
  const signIn = useSignIn()
  const provider = useSignInWays().data?.provider
  return (
    <div className="flex min-h-screen flex-col">
      <div className="pickets h-2" aria-hidden />
      <div className="m-auto w-full max-w-md px-6 pb-24">
        <img src="/fence.svg" alt="" className="mb-4 size-14" />
        <h1 className="text-2xl font-semibold tracking-tight">Yellow Fence</h1>
        <p className="mb-6 text-faint">One policy for the fleet, and what is really in force beside it.</p>
        {provider && (
          <a
            href="/sign-in/begin"
            className="mb-4 block rounded-plank bg-fence px-4 py-2 text-center font-semibold text-fence-ink hover:brightness-105"
          >
            Sign in with {new URL(provider.issuer).host}
          </a>
        )}
        <form
          className="rounded-board border border-line bg-board p-5"
          onSubmit={(event) => {
            event.preventDefault()
            signIn.mutate(token)
          }}
        >
          {/* Password managers want a name to keep the token under. */}
          <input type="text" autoComplete="username" value="yellow-fence" readOnly hidden />
          <label htmlFor="token" className="mb-1 block font-medium">
            Token
          </label>
          <input
            id="token"
            type="password"
            autoComplete="current-password"
            autoFocus
            value={token}
            onChange={(event) => {
              setToken(event.target.value)
            }}
            aria-invalid={signIn.isError}
            aria-describedby="token-help"
            className="w-full rounded-plank border border-line bg-paper px-3 py-2 font-mono text-sm"
          />
          <p id="token-help" role={signIn.isError ? 'alert' : undefined} className={`mt-1.5 text-sm ${signIn.isError ? 'text-bad' : 'text-faint'}`}>
            {signIn.isError ? `${signIn.error.message}. Make one with: yfence tokens make NAME --right read` : 'One with the right to read. The demo prints its own.'}
          </p>
          <button
            type="submit"
            disabled={token.trim() === '' || signIn.isPending}
            className="mt-4 w-full rounded-plank bg-fence px-4 py-2 font-semibold text-fence-ink enabled:hover:brightness-105 disabled:opacity-50"
          >
            Sign in
          </button>
        </form>
      </div>
    </div>
  )
}
