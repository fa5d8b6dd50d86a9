import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, useParams } from 'react-router'
import { type Account, api, data } from '../api/client'
import { Button } from '../ui/Button'
import { Field } from '../ui/Field'
import { Failed } from '../ui/Banner'
import { consentsOf, ConsentSteps } from './Consent'
import { Linked } from './LinkPage'
import { FileField } from './options'
import { useAccounts, useProviders } from './queries'

/** An account whose sign-in has expired gets a new one, in place: jobs and runs stay. */
export function ReauthorizePage() {
  const { name = '' } = useParams()
  const client = useQueryClient()
  const account = useAccounts().data?.find((one) => one.name === name)
  const provider = useProviders().data?.find((one) => one.name === account?.provider)
  const [secret, setSecret] = useState('')
  const [files, setFiles] = useState<Record<string, string>>({})
  const [reauthorized, setReauthorized] = useState<Account>()
  useEffect(() => {
    document.title = `Reauthorize ${name} · Deft Heron`
  }, [name])
  const reauthorize = useMutation({
    mutationFn: () => data(api.POST('/api/v1/accounts/{name}/reauthorize', { params: { path: { name } }, body: { secret, files } })),
    onSuccess: (found) => {
      void client.invalidateQueries()
      setReauthorized(found)
    },
  })
  if (reauthorized) return <Linked accounts={[reauthorized]} reauthorized />
  if (!account || !provider) return <p className="py-12 text-soft">There is no account {name}.</p>
  const offered = consentsOf(provider.consents, account.options['sign-in'])
  return (
    <form
      className="grid max-w-2xl gap-4 py-3"
      onSubmit={(event) => {
        event.preventDefault()
        if (offered.length === 0) reauthorize.mutate()
      }}
    >
      <h1 className="text-title font-semibold">
        Reauthorize <span className="font-mono text-large">{account.address}</span>
      </h1>
      {account.why && <p className="text-ochre">{account.why}</p>}
      <p className="text-soft">
        Sign in to {provider.title} again{account.owner ? `, as ${account.owner}` : ''}. Its jobs stay, and runs held for it continue.
      </p>
      {offered.length > 0 ? (
        <ConsentSteps title={provider.title} offered={offered} asked={() => ({ provider: provider.name, name, reauthorize: true })} onEnded={(consent) => setReauthorized(consent.account)}>
          <BackToAccounts />
        </ConsentSteps>
      ) : (
        <>
          {provider.options
            .filter((option) => option.file)
            .map((option) => (
              <FileField key={option.name} option={{ ...option, help: 'A new private key, if the current one is no longer accepted' }} chosen={option.name in files} onChange={(content) => setFiles({ ...files, [option.name]: content })} />
            ))}
          <Field label="New secret" help="It is stored encrypted and never shown." type="password" autoComplete="new-password" value={secret} onChange={(event) => setSecret(event.target.value)} required={Object.keys(files).length === 0} />
          {reauthorize.isError && <Failed error={reauthorize.error} />}
          <div className="flex gap-2">
            <Button look="first" type="submit" disabled={reauthorize.isPending}>
              {reauthorize.isPending ? 'Checking…' : 'Reauthorize'}
            </Button>
            <BackToAccounts />
          </div>
        </>
      )}
    </form>
  )
}

export function BackToAccounts() {
  return (
    <Link to="/accounts" className="inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage">
      Back
    </Link>
  )
}
