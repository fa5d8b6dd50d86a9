import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data } from '../api/client'
import { addPasskey } from '../signin/passkey'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Field } from '../ui/Field'
import { when } from '../ui/format'

/** How one signs in: password, one-time codes and passkeys. */
export function YourSignin() {
  const who = useQuery({ queryKey: ['whoami'], queryFn: () => data(api.GET('/api/v1/whoami')), staleTime: Infinity })
  return (
    <>
      <h1 className="text-title font-semibold">Your sign-in</h1>
      {who.data && (
        <>
          <p className="max-w-3xl text-soft">
            You are {who.data.user}, with the role {who.data.role}. Changes here ask you to sign in again if you did so more than 15 minutes ago.
          </p>
          <Password has={who.data.password} />
          <Codes has={who.data.codes} />
          <Passkeys />
        </>
      )}
    </>
  )
}

function useChange<Given>(change: (given: Given) => Promise<unknown>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['whoami'] })
      void client.invalidateQueries({ queryKey: ['passkeys'] })
    },
  })
}

function Password({ has }: { has: boolean }) {
  const [password, setPassword] = useState('')
  const save = useChange(async () => {
    await api.PUT('/api/v1/me/password', { body: { password } })
    setPassword('')
  })
  return (
    <section aria-labelledby="your-password" className="mt-4 max-w-3xl border-t border-line py-3">
      <h2 id="your-password" className="font-semibold">
        Password
      </h2>
      <p className="text-soft">{has ? 'You sign in with a password. A new one ends your other sessions.' : 'You have no password yet, and sign in with a link.'}</p>
      <form
        className="mt-2 flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault()
          save.mutate(undefined)
        }}
      >
        <Field className="w-72" label="New password, at least 12 characters" type="password" autoComplete="new-password" value={password} onChange={(event) => setPassword(event.target.value)} />
        <Button type="submit" disabled={!password || save.isPending}>
          Set the password
        </Button>
      </form>
      {save.isError && <Failed error={save.error} />}
      {save.isSuccess && !password && (
        <p role="status" className="text-small text-reed">
          The password is set.
        </p>
      )}
    </section>
  )
}

function Codes({ has }: { has: boolean }) {
  const [key, setKey] = useState<{ key: string; address: string }>()
  const [code, setCode] = useState('')
  const [recovery, setRecovery] = useState<string[]>()
  const begin = useChange(async () => setKey(await data(api.POST('/api/v1/me/codes'))))
  const prove = useChange(async () => {
    const made = await data(api.PUT('/api/v1/me/codes', { body: { key: key?.key ?? '', code } }))
    setRecovery(made.codes)
    setKey(undefined)
    setCode('')
  })
  const remove = useChange(async () => {
    await api.DELETE('/api/v1/me/codes')
    setRecovery(undefined)
  })
  const error = begin.error ?? prove.error ?? remove.error
  return (
    <section aria-labelledby="your-codes" className="max-w-3xl border-t border-line py-3">
      <h2 id="your-codes" className="font-semibold">
        One-time codes
      </h2>
      <p className="text-soft">
        {has ? 'You sign in with your password and a code from your authenticator app.' : 'An authenticator app shows a new code every 30 seconds. You then sign in with your password and that code.'}
      </p>
      {key ? (
        <form
          className="mt-2 grid max-w-xl gap-3"
          onSubmit={(event) => {
            event.preventDefault()
            prove.mutate(undefined)
          }}
        >
          <p>
            Enter this key in your authenticator app, or <a href={key.address} className="text-plumage hover:underline">open it there</a>:
          </p>
          <code className="rounded-md border border-line bg-panel px-3 py-2 font-mono text-small break-all">{key.key}</code>
          <Field label="The code that it shows now" inputMode="numeric" autoComplete="one-time-code" value={code} onChange={(event) => setCode(event.target.value)} />
          <div>
            <Button look="first" type="submit" disabled={code.length < 6 || prove.isPending}>
              Use these codes
            </Button>
          </div>
        </form>
      ) : (
        <div className="mt-2 flex flex-wrap gap-3">
          <Button onClick={() => begin.mutate(undefined)} disabled={begin.isPending}>
            {has ? 'Replace the key' : 'Set up one-time codes'}
          </Button>
          {has && (
            <Button onClick={() => remove.mutate(undefined)} disabled={remove.isPending}>
              Stop using codes
            </Button>
          )}
        </div>
      )}
      {error && <Failed error={error} />}
      {recovery && (
        <div className="mt-3" role="status">
          <p>One-time codes are in use. Keep these recovery codes: each signs you in once without the device. They are shown this once.</p>
          <ul className="mt-2 grid max-w-xl grid-cols-1 gap-x-6 rounded-md border border-line bg-panel p-3 font-mono text-small sm:grid-cols-2">
            {recovery.map((one) => (
              <li key={one}>{one}</li>
            ))}
          </ul>
        </div>
      )}
    </section>
  )
}

function Passkeys() {
  const ways = useQuery({ queryKey: ['sign-in ways'], queryFn: () => data(api.GET('/api/v1/session/ways')), staleTime: Infinity })
  const keys = useQuery({ queryKey: ['passkeys'], queryFn: () => data(api.GET('/api/v1/me/passkeys')) })
  const [name, setName] = useState('')
  const add = useChange(async () => {
    await addPasskey(name)
    setName('')
  })
  const remove = useChange((id: string) => api.DELETE('/api/v1/me/passkeys/{id}', { params: { path: { id } } }))
  const error = add.error ?? remove.error
  return (
    <section aria-labelledby="your-passkeys" className="max-w-3xl border-t border-line py-3">
      <h2 id="your-passkeys" className="font-semibold">
        Passkeys
      </h2>
      <p className="text-soft">A passkey stays in a device of yours and signs you in without a password.</p>
      <ul>
        {keys.data?.map((key) => (
          <li key={key.id} className="flex flex-wrap items-baseline justify-between gap-3 border-b border-line py-1">
            <span>
              {key.name} <span className="text-small text-soft">added {when(key.created)}, last used {key.seen ? when(key.seen) : 'never'}</span>
            </span>
            <Button look="quiet" aria-label={`Remove ${key.name}`} onClick={() => remove.mutate(key.id)}>
              Remove
            </Button>
          </li>
        ))}
      </ul>
      {ways.data && !ways.data.passkeys ? (
        <p className="mt-2 text-ochre">{ways.data.passkeys_why}</p>
      ) : (
        <form
          className="mt-2 flex flex-wrap items-end gap-3"
          onSubmit={(event) => {
            event.preventDefault()
            add.mutate(undefined)
          }}
        >
          <Field className="w-72" label="Name of the device" value={name} onChange={(event) => setName(event.target.value)} />
          <Button type="submit" disabled={!name || add.isPending}>
            Add a passkey
          </Button>
        </form>
      )}
      {error && <Failed error={error} />}
    </section>
  )
}
