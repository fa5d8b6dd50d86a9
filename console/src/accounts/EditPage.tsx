import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { type Account, api, data, Failure, type Provider } from '../api/client'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Dialog } from '../ui/Dialog'
import { Field } from '../ui/Field'
import { Failed } from '../ui/Banner'
import { FileField, OptionField, wrongOf } from './options'
import { useAccounts, useProviders } from './queries'

/** An account is changed in place: jobs, runs and what is remembered stay. */
export function EditPage() {
  const { name = '' } = useParams()
  const account = useAccounts().data?.find((one) => one.name === name)
  const provider = useProviders().data?.find((one) => one.name === account?.provider)
  useEffect(() => {
    document.title = `Edit ${name} · Deft Heron`
  }, [name])
  if (!account || !provider) return null
  return <EditForm key={name} account={account} provider={provider} />
}

function EditForm({ account, provider }: { account: Account; provider: Provider }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [name, setName] = useState(account.name)
  const [values, setValues] = useState<Record<string, string>>(account.options)
  const [start, setStart] = useState(account.start ?? '')
  const [readOnly, setReadOnly] = useState(account.read_only)
  const [secret, setSecret] = useState('')
  const [files, setFiles] = useState<Record<string, string>>({})
  const byConsent = provider.consents.length > 0
  const edit = useMutation({
    mutationFn: (anyway: boolean) => {
      const options = Object.fromEntries(Object.entries(values).filter(([option, value]) => value !== (account.options[option] ?? '')))
      return data(
        api.PATCH('/api/v1/accounts/{name}', {
          params: { path: { name: account.name } },
          body: {
            anyway, secret, files, options,
            name: name === account.name ? '' : name,
            start: start === (account.start ?? '') ? undefined : start,
            read_only: readOnly === account.read_only ? undefined : readOnly,
          },
        }),
      )
    },
    onSuccess: (changed) => {
      void client.invalidateQueries()
      void navigate(`/accounts/${changed.name}`)
    },
  })
  const wrong = wrongOf(edit.error)
  const wrongAt = (option: string) => (wrong?.option === option ? wrong.text : undefined)
  const other = edit.error instanceof Failure && edit.error.problem.cause === 'another-place' ? edit.error.problem : undefined
  return (
    <form
      className="relative grid min-h-0 max-w-2xl flex-1 content-start gap-4 overflow-auto py-3"
      onSubmit={(event) => {
        event.preventDefault()
        edit.mutate(false)
      }}
    >
      <h1 className="text-title font-semibold">
        Edit <span className="font-mono text-large">{account.address}</span>
      </h1>
      <p className="text-soft">The new settings are tried first. Runs pause for a moment, and the addresses of jobs follow a new name.</p>
      <Field label="Name in the tree" value={name} onChange={(event) => setName(event.target.value)} pattern="[a-z0-9\-]{1,40}" required mono />
      {provider.options
        .filter((option) => !option.secret)
        .map((option) =>
          option.file ? (
            <FileField key={option.name} option={{ ...option, help: 'Another private key; the current one stays unless you choose a file' }} chosen={option.name in files} wrong={wrongAt(option.name)} onChange={(content) => setFiles({ ...files, [option.name]: content })} />
          ) : (
            <OptionField key={option.name} option={option} value={values[option.name] ?? ''} wrong={wrongAt(option.name)} onChange={(value) => setValues({ ...values, [option.name]: value })} />
          ),
        )}
      {!byConsent && provider.options.some((option) => option.secret) && (
        <Field label="New secret (leave empty to keep the current one)" type="password" autoComplete="new-password" value={secret} wrong={wrongAt('secret-file')} onChange={(event) => setSecret(event.target.value)} />
      )}
      <Field label="Starting folder (optional)" help="Addresses of the account start there. Another folder changes what they lead to." value={start} onChange={(event) => setStart(event.target.value)} wrong={wrongAt('start')} mono />
      <label className="flex items-center gap-2">
        <Checkbox checked={readOnly} onChange={setReadOnly} label="Read only" />
        <span>
          Read only <span className="text-soft">nothing is ever written there</span>
        </span>
      </label>
      {edit.isError && !other && !wrong && <Failed error={edit.error} />}
      <div className="flex gap-2">
        <Button look="first" type="submit" disabled={edit.isPending}>
          {edit.isPending ? 'Reaching it…' : 'Change it'}
        </Button>
        <Link to={`/accounts/${account.name}`} className="inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage">
          Back
        </Link>
      </div>
      {other && (
        <Dialog open onClose={() => edit.reset()} title="Is this a different storage?" description={other.detail}>
          <p className="mb-4">Jobs of the account would use the other storage. To use both, link the other one as a new account.</p>
          <div className="flex justify-end gap-2">
            <Button onClick={() => edit.reset()}>Keep the settings</Button>
            <Button look="danger" disabled={edit.isPending} onClick={() => edit.mutate(true)}>
              Change it all the same
            </Button>
          </div>
        </Dialog>
      )}
    </form>
  )
}
