import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data, Failure } from '../api/client'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Field } from '../ui/Field'
import { signInWithPasskey } from './passkey'

type Props = {
  /** The user who signs in again in the open session; without it a new session starts. */
  user?: string
  onSignedIn: () => void
}

const causeOf = (error: unknown) => (error instanceof Failure ? error.problem.cause : undefined)

/** Signs in by a password, a one-time code, a passkey or the OpenID provider. */
export function SigninForm({ user, onSignedIn }: Props) {
  const ways = useQuery({ queryKey: ['sign-in ways'], queryFn: () => data(api.GET('/api/v1/session/ways')), staleTime: Infinity })
  const [name, setName] = useState(user ?? '')
  const [password, setPassword] = useState('')
  const [code, setCode] = useState('')
  const [asksCode, setAsksCode] = useState(false)
  const signIn = useMutation({
    mutationFn: async (): Promise<void> => {
      const body = { name, password, code: code || undefined }
      await (user ? api.POST('/api/v1/session/confirmation', { body }) : api.POST('/api/v1/session', { body }))
    },
    onSuccess: onSignedIn,
    onError: (error) => {
      if (causeOf(error) === 'code-needed') setAsksCode(true)
    },
  })
  const passkey = useMutation({ mutationFn: () => signInWithPasskey(user !== undefined), onSuccess: onSignedIn })
  const failed = signIn.isError && causeOf(signIn.error) !== 'code-needed' ? signIn.error : passkey.error
  return (
    <div className="grid gap-4">
      <form
        aria-label="Sign in"
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault()
          signIn.mutate()
        }}
      >
        {user === undefined && <Field label="Name" name="username" autoComplete="username" autoCapitalize="none" value={name} onChange={(event) => setName(event.target.value)} />}
        <Field label="Password" type="password" name="password" autoComplete="current-password" value={password} onChange={(event) => setPassword(event.target.value)} />
        {asksCode && (
          <Field
            label="One-time code"
            help="The code that your authenticator app shows now, or a recovery code."
            name="code"
            inputMode="numeric"
            autoComplete="one-time-code"
            autoFocus
            value={code}
            onChange={(event) => setCode(event.target.value)}
          />
        )}
        <div className="flex flex-wrap gap-3">
          <Button look="first" type="submit" disabled={!name || !password || (asksCode && !code) || signIn.isPending}>
            Sign in
          </Button>
          {ways.data?.passkeys && (
            <Button disabled={passkey.isPending} onClick={() => passkey.mutate()}>
              Use a passkey
            </Button>
          )}
          {ways.data?.provider && user === undefined && (
            <a href="/api/v1/session/provider" className="inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage">
              Sign in with {ways.data.provider}
            </a>
          )}
        </div>
      </form>
      {failed && <Failed error={failed} />}
      {ways.data?.passkeys_why && user === undefined && <p className="text-small text-soft">{ways.data.passkeys_why}</p>}
    </div>
  )
}
