import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { type Account, api, type Resources, type Consenting, data, type Identity, type Option, type Provider } from '../api/client'
import type { components } from '../api/schema'
import { filesLink } from '../files/address'
import { useWorkers } from '../settings/workers'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Dialog } from '../ui/Dialog'
import { Field, SelectField } from '../ui/Field'
import { when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { ResourceChoice, nameFor } from './Resources'
import { ProviderCards, ProviderSign } from './ProviderCards'
import { consentsOf, ConsentSteps } from './Consent'
import { Found } from './Found'
import { KeySheet, NewKey } from './KeySheet'
import { BackToAccounts } from './ReauthorizePage'
import { ended, FileField, OptionField, titleOf, wrongOf } from './options'
import { lastSettings, useHistory, useProviders } from './queries'

/** What a form begins with: of a server nearby, or of a link that has ended. */
type Begin = { name?: string; options?: Record<string, string>; start?: string; readOnly?: boolean; again?: boolean; at?: string }

type Worker = components['schemas']['Worker']

const stepsOfLinking = ['Provider', 'Sign-in', 'Check']

/** An account is linked in steps, one at a time: where it is, the sign-in, and what was found there. */
export function LinkPage() {
  const [search, setSearch] = useSearchParams()
  const again = search.get('again') ?? undefined
  const history = useHistory(again)
  const providers = useProviders()
  const [begin, setBegin] = useState<Begin & { key: number }>({ key: 0 })
  const [found, setFound] = useState(false)
  const [linked, setLinked] = useState<Account[]>()
  useEffect(() => {
    document.title = 'Link an account · Deft Heron'
  }, [])
  const last = again && history.data ? lastSettings(history.data) : undefined
  const wanted = last?.settings.provider ?? search.get('provider')
  const provider = providers.data?.find((one) => one.name === wanted)
  const another = () => {
    setLinked(undefined)
    setFound(false)
    setSearch({})
  }
  if (linked) return <Linked accounts={linked} onAnother={again ? undefined : another} />
  if (again && !history.data) return history.isError ? <Failed error={history.error} /> : null
  const step = !provider ? 0 : found ? 2 : 1
  return (
    <div className="relative min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="pt-3 text-title font-semibold">
        {last ? (
          <>
            Link <span className="font-mono text-large">/{last.account}</span> again
          </>
        ) : (
          'Link an account'
        )}
      </h1>
      <ol aria-label="Steps" className="flex gap-2 pb-4 text-small">
        {stepsOfLinking.map((title, i) => (
          <li key={title} aria-current={i === step ? 'step' : undefined} className={i === step ? 'font-semibold' : 'text-soft'}>
            {i > 0 && <span className="mr-2 text-soft">→</span>}
            {i + 1} {title}
          </li>
        ))}
      </ol>
      {last && <p className="mb-4 max-w-2xl text-soft">Unlinked {when(last.at)} by {last.by}. Its settings are on record, but not its secret.</p>}
      {providers.isError && <Failed error={providers.error} />}
      {wanted && providers.data && !provider && <p className="mb-4 text-ochre">There is no provider {wanted}. Choose one of these.</p>}
      {providers.data && !provider && (
        <ProviderCards
          providers={providers.data}
          onChoose={(name, options) => {
            setBegin({ options, key: begin.key + 1 })
            setSearch({ provider: name })
          }}
        />
      )}
      {provider && (
        <div className="grid max-w-2xl gap-5">
          {!last && !found && (
            <div className="flex items-center gap-3">
              <ProviderSign provider={provider} />
              <span className="text-large">{provider.title}</span>
              <Button look="quiet" onClick={() => setSearch({})}>
                Another provider
              </Button>
            </div>
          )}
          <LinkForm
            key={`${provider.name} ${begin.key}`}
            provider={provider}
            begin={last ? { name: last.account, options: last.settings.options, start: last.settings.start, readOnly: last.settings.read_only, at: last.settings.site, again: true } : begin}
            onFound={setFound}
            onLinked={setLinked}
          />
        </div>
      )}
    </div>
  )
}

type FormProps = { provider: Provider; begin: Begin; onFound: (found: boolean) => void; onLinked: (accounts: Account[]) => void }

/** Where accounts can be reached: sites, and for folders the workers by themselves. */
function placesOf(workers: Worker[], machines: boolean) {
  if (machines) return workers.map((worker) => ({ value: worker.name, title: `the worker ${worker.name}, site ${worker.site}` }))
  return [...new Set(workers.map((worker) => worker.site))].map((site) => ({ value: site, title: `the site ${site}` }))
}

function LinkForm({ provider, begin, onFound, onLinked }: FormProps) {
  const client = useQueryClient()
  const [values, setValues] = useState<Record<string, string>>(begin.options ?? {})
  const [files, setFiles] = useState<Record<string, string>>({})
  const [name, setName] = useState(begin.name ?? '')
  const [start, setStart] = useState(begin.start ?? '')
  const [secret, setSecret] = useState('')
  const [readOnly, setReadOnly] = useState(begin.readOnly ?? false)
  const [at, setAt] = useState(begin.at ?? '')
  const workers = useWorkers()
  const [shownBy, setShownBy] = useState<Identity>()
  const [resources, setResources] = useState<Resources>()
  const [reached, setReached] = useState<Account>()
  const [refused, setRefused] = useState<unknown>()
  const [kept, setKept] = useState(false)
  const sealed = provider.name === 'sealed'
  const asked = (more: Record<string, string> = {}): Consenting => ({
    provider: provider.name, name, options: Object.fromEntries(Object.entries({ ...values, ...more }).filter(([, value]) => value !== '')), start, secret, files, read_only: readOnly, again: begin.again, at: at || undefined,
  })
  const done = (accounts: Account[]) => {
    for (const key of ['accounts', 'space', 'folder', 'link-events']) void client.invalidateQueries({ queryKey: [key] })
    onLinked(accounts)
  }
  // First what the server shows of itself is compared, then the sign-in is tried and what is there is shown.
  const link = useMutation({
    mutationFn: async (trusted: Record<string, string>) => {
      const known = { ...values, ...trusted }
      if (provider.identity_option && !known[provider.identity_option]) {
        const introduced = await data(api.POST('/api/v1/identities', { body: asked() }))
        if (introduced.value) return setShownBy(introduced)
      }
      if (provider.resource && !known[provider.resource]) {
        setResources(await data(api.POST('/api/v1/resources', { body: asked(trusted) })))
        return onFound(true)
      }
      setReached(await data(api.POST('/api/v1/accounts', { body: { ...asked(trusted), try: true } })))
      onFound(true)
    },
  })
  const save = useMutation({
    mutationFn: async () => done([await data(api.POST('/api/v1/accounts', { body: asked() }))]),
  })
  const back = () => {
    setReached(undefined)
    setResources(undefined)
    onFound(false)
  }
  const take = useMutation({
    mutationFn: async (chosen: string[]) => {
      const accounts: Account[] = []
      for (const value of chosen) {
        const body = { ...asked({ [resources!.option]: value }), name: chosen.length > 1 ? nameFor(name, value) : name }
        accounts.push(await data(api.POST('/api/v1/accounts', { body })))
      }
      done(accounts)
    },
  })
  const wrong = wrongOf(link.error ?? refused)
  const offered = consentsOf(provider.consents, values['sign-in'])
  const wrongAt = (option: string) => (wrong?.option === option ? wrong.text : undefined)
  const shownAtField = wrong && (wrong.option === 'start' || (wrong.option === 'secret-file' ? provider.options.some((option) => option.secret) : provider.options.some((option) => option.name === wrong.option)))
  // What most people leave out stands behind a word, where there is a page to go to.
  const consents = provider.consents.length > 0
  const byPage = ['code', 'device', 'paste']
  const later = (option: Option) => consents && !option.required && !values['sign-in'] && (option.secret || ['client-id', 'area', 'sign-in'].includes(option.name))
  const shown = (option: Option) => {
    if (option.name === 'sign-in' && option.choices?.every((choice) => byPage.includes(choice))) return null // it is chosen below
    if (option.file) {
      const field = <FileField key={option.name} option={option} chosen={option.name in files} wrong={wrongAt(option.name)} onChange={(content) => setFiles({ ...files, [option.name]: content })} />
      if (!sealed) return field
      return (
        <div key={option.name} className="grid gap-2">
          {field}
          <NewKey name={name} onKey={(identity) => setFiles({ ...files, [option.name]: identity })} />
        </div>
      )
    }
    const listed = option.name === provider.resource ? { ...option, required: false, help: `${ended(option.help)} Leave it empty to list what the sign-in reaches` } : option
    return option.secret ? (
      <Field
        key={option.name}
        label={titleOf(option)}
        help={`${ended(option.help)} It is stored encrypted and never shown.`}
        type="password"
        autoComplete="new-password"
        value={secret}
        onChange={(event) => setSecret(event.target.value)}
        required={option.required}
        wrong={wrongAt('secret-file')}
      />
    ) : (
      <OptionField key={option.name} option={listed} value={values[option.name] ?? ''} wrong={wrongAt(option.name)} onChange={(value) => setValues({ ...values, [option.name]: value })} />
    )
  }
  const places = placesOf(workers.data ?? [], provider.name === 'folder')
  const starting = <Field label="Starting folder (optional)" help="A folder of the storage that becomes the start of the account." value={start} onChange={(event) => setStart(event.target.value)} wrong={wrongAt('start')} mono />
  if (resources) {
    return (
      <div className="grid gap-4">
        <p className="text-soft">The sign-in works. Each selected entry becomes an account.</p>
        {take.isError && <Failed error={take.error} />}
        <ResourceChoice resources={resources} busy={take.isPending} onTake={(chosen) => take.mutate(chosen)} onBack={back} />
      </div>
    )
  }
  if (reached) {
    return (
      <div className="grid gap-4">
        {reached.found?.new ? (
          <KeySheet name={name} folder={values.in ?? ''} identity={files['key-file']} recipients={values.recipients} onKept={setKept} />
        ) : (
          <>
            <p>
              {sealed ? `This is the sealed place in ${values.in}.` : `This is what ${provider.title} holds for this sign-in.`} It becomes <span className="font-mono text-small">/{name}</span> in the tree.
            </p>
            <Found account={reached} />
          </>
        )}
        {save.isError && <Failed error={save.error} />}
        <div className="flex gap-2">
          <Button look="first" disabled={save.isPending || (reached.found?.new && !kept)} onClick={() => save.mutate()}>
            {save.isPending ? 'Linking…' : 'Link it'}
          </Button>
          <Button onClick={back}>Back</Button>
        </div>
      </div>
    )
  }
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        if (offered.length === 0) link.mutate({})
      }}
    >
      <Field label="Name in the tree" help="Lower-case letters, digits and hyphens, such as field-drive." value={name} onChange={(event) => setName(event.target.value)} pattern="[a-z0-9\-]{1,40}" required mono />
      {places.length > 0 && !sealed && <SelectField label="Reached by" value={at} onChange={setAt} choices={[{ value: '', title: 'this service' }, ...places]} help="A worker reaches places that the service does not." />}
      {provider.options.filter((option) => !later(option)).map((option) => shown(option))}
      {provider.options.some(later) ? (
        <details className="grid gap-4" open={shownAtField ? true : undefined}>
          <summary className="w-fit text-plumage">More: {consents ? 'area, starting folder, your own app registration' : 'starting folder'}</summary>
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
          Read only <span className="text-soft">nothing is ever written there</span>
        </span>
      </label>
      {link.isError && !shownAtField && <Failed error={link.error} />}
      {offered.length > 0 ? (
        <ConsentSteps key={offered.join()} title={provider.title} offered={offered} asked={() => asked()} onWrong={setRefused} onEnded={(consent) => consent.account && onLinked([consent.account])}>
          <BackToAccounts />
        </ConsentSteps>
      ) : (
        <div className="flex gap-2">
          <Button look="first" type="submit" disabled={link.isPending}>
            {link.isPending ? 'Reaching it…' : 'Continue'}
          </Button>
          <BackToAccounts />
        </div>
      )}
      {shownBy && (
        <Dialog open onClose={() => setShownBy(undefined)} title="Is this the right server?" description={`${shownBy.words}. Compare it with what the administrator of the server tells you. The account accepts only this one from now on.`}>
          <div className="flex justify-end gap-2">
            <Button onClick={() => setShownBy(undefined)}>No</Button>
            <Button
              look="first"
              onClick={() => {
                const trusted = { [shownBy.option!]: shownBy.value! }
                setShownBy(undefined)
                setValues({ ...values, ...trusted })
                link.mutate(trusted)
              }}
            >
              It is the right one
            </Button>
          </div>
        </Dialog>
      )}
    </form>
  )
}

/** Accounts that were linked, or one that was reauthorized, with what was found there. */
export function Linked({ accounts, reauthorized, onAnother }: { accounts: Account[]; reauthorized?: boolean; onAnother?: () => void }) {
  return (
    <div className="grid gap-4 py-3">
      {accounts.map((account) => (
        <div key={account.name} className="grid gap-2">
          <h1 className="text-title font-semibold">
            {reauthorized ? 'Reauthorized ' : 'Linked as '}
            <span className="font-mono text-large">{account.address}</span>
          </h1>
          <Found account={account} />
          {!reauthorized && (account.found?.areas?.length ?? 0) > 1 && (
            <p>
              The same sign-in leads to {account.found!.areas!.length} areas.{' '}
              <Link to={`/accounts/${account.name}`} className="text-plumage hover:underline">
                Link others of them
              </Link>
            </p>
          )}
        </div>
      ))}
      <p className="text-soft">
        {reauthorized
          ? 'This is what the account holds. Runs held for it continue.'
          : 'This is what the account holds. If it is not the one you meant, unlink it; nothing there has changed.'}
      </p>
      <div className="flex gap-2">
        <Link to={filesLink(accounts.length === 1 ? accounts[0]!.address : '/')} className="inline-flex h-8 items-center rounded-md border border-plumage bg-plumage px-3 text-panel hover:opacity-90">
          Open {accounts.length === 1 ? 'it' : 'them'} in the tree
        </Link>
        {onAnother && <Button onClick={onAnother}>Link another</Button>}
        <Link to="/accounts" className="inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage">
          All accounts
        </Link>
      </div>
    </div>
  )
}
