import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link } from 'react-router'
import { type Account, api, type Consenting, data, Failure, type Option, type Provider } from '../api/client'
import { treeLink } from '../tree/address'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Choice } from '../ui/Choice'
import { Field, SelectField } from '../ui/Field'
import { Failed } from '../ui/Notice'
import { Found } from './AccountsPage'
import { consentsOf, ConsentSteps } from './Consent'
import { BackToAccounts } from './MendPage'
import { useProviders } from './queries'

/** An account is linked by a form that is made of what its provider asks for. */
export function LinkPage() {
  const providers = useProviders()
  const [name, setName] = useState<string>()
  const [linked, setLinked] = useState<Account>()
  useEffect(() => {
    document.title = 'Link an account · Deft Heron'
  }, [])
  const provider = providers.data?.find((one) => one.name === name) ?? providers.data?.[0]
  if (linked) return <Linked account={linked} onAnother={() => setLinked(undefined)} />
  return (
    <div className="relative min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="py-3 text-title font-semibold">Link an account</h1>
      {providers.isError && <Failed error={providers.error} />}
      {providers.data && provider && (
        <div className="grid max-w-2xl gap-5">
          <Choice legend="What kind of place is it?" value={provider.name} onChange={setName} choices={providers.data.map((one) => ({ value: one.name, title: one.title, help: '' }))} />
          <LinkForm key={provider.name} provider={provider} onLinked={setLinked} />
        </div>
      )}
    </div>
  )
}

/** What a failure says of one option, "--url: …", without its name. */
function wrongOf(error: unknown): { option: string; text: string } | undefined {
  if (!(error instanceof Failure)) return undefined
  const found = /^--([a-z-]+): (.*)$/s.exec(error.problem.detail)
  if (!found) return undefined
  const text = found[2]!.charAt(0).toUpperCase() + found[2]!.slice(1)
  return { option: found[1]!, text: `${text} ${error.problem.remedy ?? ''}`.trim() }
}

function LinkForm({ provider, onLinked }: { provider: Provider; onLinked: (account: Account) => void }) {
  const client = useQueryClient()
  const [values, setValues] = useState<Record<string, string>>({})
  const [name, setName] = useState('')
  const [start, setStart] = useState('')
  const [secret, setSecret] = useState('')
  const [readOnly, setReadOnly] = useState(false)
  const link = useMutation({
    mutationFn: () => {
      const options = Object.fromEntries(Object.entries(values).filter(([, value]) => value !== ''))
      return data(api.POST('/api/v1/accounts', { body: { provider: provider.name, name, options, start, secret, read_only: readOnly } }))
    },
    onSuccess: (account) => {
      for (const key of ['accounts', 'space', 'folder']) void client.invalidateQueries({ queryKey: [key] })
      onLinked(account)
    },
  })
  const [refused, setRefused] = useState<unknown>()
  const wrong = wrongOf(link.error ?? refused)
  const offered = consentsOf(provider.consents, values['sign-in'])
  const asked = (): Consenting => ({
    provider: provider.name, name, options: Object.fromEntries(Object.entries(values).filter(([, value]) => value !== '')), start, secret, read_only: readOnly,
  })
  const wrongAt = (option: string) => (wrong?.option === option ? wrong.text : undefined)
  const shownAtField = wrong && (wrong.option === 'start' || (wrong.option === 'secret-file' ? provider.options.some((option) => option.secret) : provider.options.some((option) => option.name === wrong.option)))
  // What most people leave out stands behind a word, where there is a page to go to.
  const consents = provider.consents.length > 0
  const byPage = ['code', 'device', 'paste']
  const later = (option: Option) => consents && !option.required && !values['sign-in'] && (option.secret || ['client-id', 'area', 'sign-in'].includes(option.name))
  const shown = (option: Option) => {
    if (option.name === 'sign-in' && option.choices?.every((choice) => byPage.includes(choice))) return null // it is chosen below
    return option.secret ? (
      <Field
        key={option.name}
        label={titleOf(option)}
        help={`${ended(option.help)} It is kept sealed, and never shown again.`}
        type="password"
        autoComplete="new-password"
        value={secret}
        onChange={(event) => setSecret(event.target.value)}
        required={option.required}
        wrong={wrongAt('secret-file')}
      />
    ) : (
      <OptionField key={option.name} option={option} value={values[option.name] ?? ''} wrong={wrongAt(option.name)} onChange={(value) => setValues({ ...values, [option.name]: value })} />
    )
  }
  const starting = <Field label="Starting folder (may be left out)" help="A folder of the place that becomes the account’s start." value={start} onChange={(event) => setStart(event.target.value)} wrong={wrongAt('start')} mono />
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        if (offered.length === 0) link.mutate()
      }}
    >
      <Field label="Its name in the tree" help="Lower-case letters, digits and hyphens, such as field-drive." value={name} onChange={(event) => setName(event.target.value)} pattern="[a-z0-9\-]{1,40}" required mono />
      {provider.options.filter((option) => !later(option)).map((option) => shown(option))}
      {provider.options.some(later) ? (
        <details className="grid gap-4" open={shownAtField ? true : undefined}>
          <summary className="w-fit text-plumage">More: {consents ? 'an area, a starting folder, an app registration of your own' : 'a starting folder'}</summary>
          <div className="mt-3 grid gap-4">
            {provider.options.filter(later).map((option) => shown(option))}
            {starting}
          </div>
        </details>
      ) : (
        starting
      )}
      <label className="flex items-center gap-2">
        <Checkbox checked={readOnly} onChange={setReadOnly} label="Read only" />
        <span>
          Read only <span className="text-soft">nothing can be written there by any way</span>
        </span>
      </label>
      {link.isError && !shownAtField && <Failed error={link.error} />}
      {offered.length > 0 ? (
        <ConsentSteps key={offered.join()} title={provider.title} offered={offered} asked={asked} onWrong={setRefused} onEnded={(consent) => consent.account && onLinked(consent.account)}>
          <BackToAccounts />
        </ConsentSteps>
      ) : (
        <div className="flex gap-2">
          <Button look="first" type="submit" disabled={link.isPending}>
            {link.isPending ? 'Reaching it…' : 'Link it'}
          </Button>
          <BackToAccounts />
        </div>
      )}
    </form>
  )
}
const capital = (text: string) => text.charAt(0).toUpperCase() + text.slice(1)
/** A sentence, whether or not it was written as one. */
const ended = (text: string) => capital(text).replace(/[.]?$/, '.')
const titleOf = (option: Option) => (option.required ? option.title : `${option.title} (may be left out)`)

function OptionField({ option, value, wrong, onChange }: { option: Option; value: string; wrong?: string; onChange: (value: string) => void }) {
  const help = `${ended(option.help)}${option.default ? ` Left out, it is ${option.default}.` : ''}`
  if (option.choices?.length) {
    return <SelectField label={titleOf(option)} help={help} value={value || option.default || ''} onChange={onChange} choices={[...(option.default || option.required ? [] : [{ value: '', title: 'the first that fits' }]), ...option.choices.map((choice) => ({ value: choice, title: choice }))]} />
  }
  return <Field label={titleOf(option)} help={help} value={value} wrong={wrong} placeholder={option.default} required={option.required} onChange={(event) => onChange(event.target.value)} mono />
}

/** An account that was linked, or mended, with what was found there. */
export function Linked({ account, mended, onAnother }: { account: Account; mended?: boolean; onAnother?: () => void }) {
  return (
    <div className="grid gap-4 py-3">
      <h1 className="text-title font-semibold">
        {mended ? 'Mended ' : 'Linked as '}
        <span className="font-mono text-large">{account.address}</span>
      </h1>
      <p className="text-soft">
        {mended
          ? 'This is what was found there. Runs that were held for it go on.'
          : 'This is what was found there. If it is another place than you meant, unlink it: nothing there has changed.'}
      </p>
      <Found account={account} />
      <div className="flex gap-2">
        <Link to={treeLink(account.address)} className="inline-flex h-8 items-center rounded-md border border-plumage bg-plumage px-3 text-panel hover:opacity-90">
          Open it in the tree
        </Link>
        {onAnother && <Button onClick={onAnother}>Link another</Button>}
        <Link to="/accounts" className="inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage">
          All accounts
        </Link>
      </div>
    </div>
  )
}
