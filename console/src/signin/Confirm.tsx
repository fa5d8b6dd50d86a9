import { useEffect, useState } from 'react'
import { api, onSignInAgain } from '../api/client'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { Failed } from '../ui/Banner'
import { Field } from '../ui/Field'
import { SigninForm } from './SigninForm'

/** Asks to sign in again before what needs a sign-in of the last 15 minutes, which is then repeated. */
export function Confirm({ user, password }: { user: string; password: boolean }) {
  const [asked, setAsked] = useState<(signedIn: boolean) => void>()
  const [link, setLink] = useState('')
  const [error, setError] = useState<unknown>()
  useEffect(() => onSignInAgain(() => new Promise<boolean>((resolve) => setAsked(() => resolve))), [])
  const end = (signedIn: boolean) => {
    asked?.(signedIn)
    setAsked(undefined)
    setLink('')
    setError(undefined)
  }
  const byLink = () => {
    const token = link.slice(link.indexOf('#') + 1).trim()
    api.POST('/api/v1/session/confirmation', { body: { token } }).then(() => end(true), setError)
  }
  return (
    <Dialog open={asked !== undefined} onClose={() => end(false)} title="Sign in again" description="This needs a sign-in of the last 15 minutes. Your action continues afterwards.">
      {password ? (
        <SigninForm user={user} onSignedIn={() => end(true)} />
      ) : (
        <form
          aria-label="Sign in with a link"
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault()
            byLink()
          }}
        >
          <p>You have no password. On a terminal that is signed in as you, type the command below and paste the link here.</p>
          <code className="block rounded-md border border-line bg-ground px-3 py-2 font-mono text-small">heron signin --console</code>
          <Field label="Sign-in link" mono value={link} onChange={(event) => setLink(event.target.value)} />
          <div>
            <Button look="first" type="submit" disabled={!link}>
              Continue
            </Button>
          </div>
          {error !== undefined && <Failed error={error} />}
        </form>
      )}
    </Dialog>
  )
}
