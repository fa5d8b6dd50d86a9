import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { type Account, api, type Resources, type Consenting, data, type Identity, type Option, type Provider } from '../api/client'
import { filesLink } from '../files/address'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Choice } from '../ui/Choice'
import { Dialog } from '../ui/Dialog'
import { Field } from '../ui/Field'
import { plain, when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { ResourceChoice, nameFor } from './Resources'
import { consentsOf, ConsentSteps } from './Consent'
import { Found } from './Found'
import { BackToAccounts } from './ReauthorizePage'
import { ended, FileField, OptionField, titleOf, wrongOf } from './options'
import { lastSettings, useHistory, useProviders } from './queries'

/** What a form begins with: of a server nearby, or of a link that has ended. */
type Begin = { name?: string; options?: Record<string, string>; start?: string; readOnly?: boolean; again?: boolean }

/** An account is linked by a form that is made of what its provider asks for. */
export function LinkPage() {
  const [search] = useSearchParams()
  const again = search.get('again') ?? undefined
  const history = useHistory(again)
  const providers = useProviders()
  const [name, setName] = useState<string>()
  const [begin, setBegin] = useState<Begin & { key: number }>({ key: 0 })
  const [linked, setLinked] = useState<Account[]>()
  useEffect(() => {
    document.title = 'Link an account · Deft Heron'
  }, [])
  const last = again && history.data ? lastSettings(history.data) : undefined
  const wanted = last?.settings.provider ?? name
  const provider = providers.data?.find((one) => one.name === wanted) ?? providers.data?.[0]
  if (linked) return <Linked accounts={linked} onAnother={again ? undefined : () => setLinked(undefined)} />
  if (again && !history.data) return history.isError ? <Failed error={history.error} /> : null
  return (
    <div className="relative min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="py-3 text-title font-semibold">
        {last ? (
          <>
            Link <span className="font-mono text-large">/{last.account}</span> again
          </>
        ) : (
          'Link an account'
        )}
      </h1>
      {last && <p className="mb-4 max-w-2xl text-soft">Unlinked {when(last.at)} by {last.by}. Its settings are on record, but not its secret.</p>}
      {providers.isError && <Failed error={providers.error} />}
      {providers.data && provider && (
        <div className="grid max-w-2xl gap-5">
          {!last && (
            <>
              <Nearby
                onChosen={(found, options) => {
                  setName(found)
                  setBegin({ options, key: begin.key + 1 })
                }}
              />
              <Choice
                legend="Provider"
                value={provider.name}
                onChange={(value) => {
                  setName(value)
                  setBegin({ key: begin.key + 1 })
                }}
                choices={providers.data.map((one) => ({ value: one.name, title: one.title, help: '' }))}
              />
            </>
          )}
          <LinkForm
            key={`${provider.name} ${begin.key}`}
            provider={provider}
            begin={last ? { name: last.account, options: last.settings.options, start: last.settings.start, readOnly: last.settings.read_only, again: true } : begin}
            onLinked={setLinked}
          />
        </div>
      )}
    </div>
  )
}

/** Servers that announce themselves on the service's network. */
function Nearby({ onChosen }: { onChosen: (provider: string, options: Record<string, string>) => void }) {
  const [looking, setLooking] = useState(false)
  const found = useQuery({ queryKey: ['nearby'], queryFn: () => data(api.GET('/api/v1/discovered')), enabled: looking, staleTime: 30_000 })
  if (!looking) {
    return (
      <div>
        <Button look="quiet" onClick={() => setLooking(true)}>
          Look for servers on the local network
        </Button>
      </div>
    )
  }
  return (
    <section aria-label="Servers on the network" className="grid gap-1">
      <h2 className="text-small text-soft">Servers on the network</h2>
      {found.isPending && <p className="text-soft">Looking for three seconds…</p>}
      {found.isError && <Failed error={found.error} />}
      {found.data?.length === 0 && <p className="text-soft">No server announced itself. You can link a server by its address.</p>}
      {found.data?.map((server) => (
        <button key={`${server.service} ${server.address} ${server.port} ${server.name}`} type="button" className="flex h-8 items-center gap-3 text-left hover:bg-panel" onClick={() => onChosen(server.provider, server.options)}>
          <span className="text-plumage">{plain(server.name)}</span>
          <span className="font-mono text-small text-soft">
            {server.provider} {server.address} port {server.port}
          </span>
        </button>
      ))}
    </section>
  )
}

function LinkForm({ provider, begin, onLinked }: { provider: Provider; begin: Begin; onLinked: (accounts: Account[]) => void }) {
  const client = useQueryClient()
  const [values, setValues] = useState<Record<string, string>>(begin.options ?? {})
  const [files, setFiles] = useState<Record<string, string>>({})
  const [name, setName] = useState(begin.name ?? '')
  const [start, setStart] = useState(begin.start ?? '')
  const [secret, setSecret] = useState('')
  const [readOnly, setReadOnly] = useState(begin.readOnly ?? false)
  const [shownBy, setShownBy] = useState<Identity>()
  const [resources, setResources] = useState<Resources>()
  const [refused, setRefused] = useState<unknown>()
  const asked = (more: Record<string, string> = {}): Consenting => ({
    provider: provider.name, name, options: Object.fromEntries(Object.entries({ ...values, ...more }).filter(([, value]) => value !== '')), start, secret, files, read_only: readOnly, again: begin.again,
  })
  const done = (accounts: Account[]) => {
    for (const key of ['accounts', 'space', 'folder', 'link-events']) void client.invalidateQueries({ queryKey: [key] })
    onLinked(accounts)
  }
  // First what the server shows of itself is compared, then what is behind the sign-in is listed, then it is linked.
  const link = useMutation({
    mutationFn: async (trusted: Record<string, string>) => {
      const known = { ...values, ...trusted }
      if (provider.identity_option && !known[provider.identity_option]) {
        const introduced = await data(api.POST('/api/v1/identities', { body: asked() }))
        if (introduced.value) return setShownBy(introduced)
      }
      if (provider.resource && !known[provider.resource]) {
        return setResources(await data(api.POST('/api/v1/resources', { body: asked(trusted) })))
      }
      done([await data(api.POST('/api/v1/accounts', { body: asked(trusted) }))])
    },
  })
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
      return <FileField key={option.name} option={option} chosen={option.name in files} wrong={wrongAt(option.name)} onChange={(content) => setFiles({ ...files, [option.name]: content })} />
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
  const starting = <Field label="Starting folder (optional)" help="A folder of the storage that becomes the start of the account." value={start} onChange={(event) => setStart(event.target.value)} wrong={wrongAt('start')} mono />
  if (resources) {
    return (
      <div className="grid gap-4">
        <p className="text-soft">The sign-in works. Each selected entry becomes an account.</p>
        {take.isError && <Failed error={take.error} />}
        <ResourceChoice resources={resources} busy={take.isPending} onTake={(chosen) => take.mutate(chosen)} onBack={() => setResources(undefined)} />
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
            {link.isPending ? 'Reaching it…' : 'Link it'}
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
