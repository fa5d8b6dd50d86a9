import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'
import { api } from '../api/client'
import { Failed } from '../ui/Banner'
import { SigninForm } from './SigninForm'

/** Takes the token out of the link's fragment, which no server has seen. */
export function SigninPage() {
  const navigate = useNavigate()
  const client = useQueryClient()
  const [error, setError] = useState<unknown>()
  const [token, setToken] = useState(() => window.location.hash.slice(1))
  const asked = useRef('')

  // A link that is opened on this very page changes the fragment alone.
  useEffect(() => {
    const changed = () => {
      setError(undefined)
      setToken(window.location.hash.slice(1))
    }
    window.addEventListener('hashchange', changed)
    return () => window.removeEventListener('hashchange', changed)
  }, [])

  useEffect(() => {
    if (!token || asked.current === token) return
    asked.current = token // a link is good once
    window.history.replaceState(null, '', '/signin')
    api
      .POST('/api/v1/session', { body: { token } })
      .then(() => {
        client.clear()
        return navigate('/', { replace: true })
      })
      .catch(setError)
  }, [token, navigate, client])

  return (
    <main className="mx-auto max-w-xl px-6 py-24">
      <h1 className="text-title font-semibold">Deft Heron</h1>
      {token && !error ? (
        <p className="mt-4 text-soft">Signing in…</p>
      ) : (
        <div className="mt-4 grid gap-4">
          {error ? <Failed error={error} /> : <p>You are not signed in to this service.</p>}
          <SigninForm
            onSignedIn={() => {
              client.clear()
              void navigate('/', { replace: true })
            }}
          />
          <div className="border-t border-line pt-4">
            <p>Without a password, sign in with a link. For one, on a terminal that is signed in, type</p>
            <code className="mt-2 block rounded-md border border-line bg-panel px-3 py-2 font-mono text-small">heron signin --console</code>
            <p className="mt-2 text-soft">Open the link in this browser. It is good once, within 15 minutes.</p>
          </div>
        </div>
      )}
    </main>
  )
}
