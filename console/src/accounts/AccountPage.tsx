import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useEffect, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { type Account, api, data } from '../api/client'
import { filesLink } from '../files/address'
import { Button } from '../ui/Button'
import { bytes, plain, when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { ResourceChoice, nameFor } from './Resources'
import { signsIn, whereOf } from './Found'
import { useAccounts, useHistory, useProviders, useSpace } from './queries'
import { SpeedSection } from './Speed'
import { UnlinkDialog } from './UnlinkDialog'
import { JobsSection, UsageSection } from './Usage'

/** One account: how it is, what it was linked with, how fast it is, and what happened to it. */
export function AccountPage() {
  const { name = '' } = useParams()
  const accounts = useAccounts()
  const account = accounts.data?.find((one) => one.name === name)
  useEffect(() => {
    document.title = `${name} · Deft Heron`
  }, [name])
  if (accounts.isError) return <Failed error={accounts.error} />
  if (!accounts.data) return null
  if (!account) {
    return (
      <div className="py-12 text-soft">
        <p>There is no account {name}.</p>
        <Link to="/accounts" className="text-plumage hover:underline">
          All accounts
        </Link>
      </div>
    )
  }
  return (
    <div className="relative min-h-0 flex-1 overflow-auto pb-8">
      <Head account={account} />
      <Facts account={account} />
      {account.state !== 'suspended' && <BehindSection account={account} />}
      <UsageSection account={account} />
      <JobsSection account={account} />
      <SpeedSection account={account} others={accounts.data.filter((one) => one.name !== name && !one.read_only && one.state !== 'suspended')} />
      <HistorySection name={name} />
    </div>
  )
}

function Head({ account }: { account: Account }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [unlinking, setUnlinking] = useState(false)
  const provider = useProviders().data?.find((one) => one.name === account.provider)
  const suspended = account.state === 'suspended'
  const path = { params: { path: { name: account.name } } }
  const refresh = () => {
    for (const key of ['accounts', 'space', 'link-events', 'folder']) void client.invalidateQueries({ queryKey: [key] })
  }
  const turn = useMutation({
    mutationFn: () => data(suspended ? api.POST('/api/v1/accounts/{name}/resume', path) : api.POST('/api/v1/accounts/{name}/suspend', path)),
    onSettled: refresh,
  })
  const check = useMutation({ mutationFn: () => data(api.POST('/api/v1/accounts/{name}/check', path)), onSettled: refresh })
  const link = 'inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage'
  return (
    <>
      <div className="flex flex-wrap items-center gap-2 py-3">
        <h1 className="flex-1 font-mono text-title font-semibold whitespace-nowrap">{account.address}</h1>
        {!suspended && (
          <Link to={filesLink(account.address)} className={link}>
            Open in the tree
          </Link>
        )}
        <Button disabled={check.isPending || suspended} onClick={() => check.mutate()}>
          {check.isPending ? 'Checking…' : 'Check'}
        </Button>
        <Link to={`/accounts/${account.name}/edit`} className={link}>
          Edit
        </Link>
        {signsIn(provider) && (
          <Link to={`/accounts/reauthorize/${account.name}`} className={link}>
            {account.state === 'sign-in-expired' ? 'Reauthorize' : 'Sign in again'}
          </Link>
        )}
        <Button disabled={turn.isPending} onClick={() => turn.mutate()}>
          {suspended ? 'Resume' : 'Suspend'}
        </Button>
        <Button onClick={() => setUnlinking(true)}>Unlink</Button>
      </div>
      {(turn.isError || check.isError) && <Failed error={turn.error ?? check.error} />}
      {unlinking && <UnlinkDialog account={account} onClose={() => setUnlinking(false)} onDone={() => void navigate('/accounts')} />}
    </>
  )
}

function Facts({ account }: { account: Account }) {
  const provider = useProviders().data?.find((one) => one.name === account.provider)
  const spaces = useSpace()
  const space = spaces.data?.accounts.find((one) => one.account === account.name)?.space
  const rows: [string, ReactNode][] = [
    ['State', <><State state={account.state} />{account.read_only && <span className="ml-2 text-soft">read only</span>}</>],
    ['Last seen', account.seen ? when(account.seen) : 'not yet'],
    ['Owner', account.owner || 'not reported by the provider'],
    ['Space', !space ? (spaces.isPending ? '…' : 'not reported') : space.used < 0 && space.free < 0 ? 'not reported by the provider' : space.free < 0 ? `${bytes(space.used)} used, no limit reported` : `${bytes(space.used)} used, ${bytes(space.free)} free of ${bytes(space.total)}`],
    ['Where', <>{(provider?.title ?? account.provider).replace(account.site ? " on the service's machine" : '', '')} <span className="font-mono text-small wrap-anywhere text-soft">{plain(whereOf(account, provider))}</span></>],
    ...(['host-key', 'certificate'] as const).filter((name) => account.options[name]).map((name): [string, ReactNode] => [name === 'host-key' ? 'Host key' : 'Certificate', <span className="font-mono text-small wrap-anywhere">{account.options[name]}</span>]),
    ...(account.site ? [['Reached by', <>the workers of the site <Link to="/settings/workers" className="text-plumage hover:underline">{account.site}</Link></>] satisfies [string, ReactNode]] : []),
    ['Linked', when(account.linked)],
  ]
  const notes = (account.why ? [{ why: account.why, remedy: account.remedy ?? '' }] : []).concat(account.warnings ?? [])
  return (
    <>
      {notes.map((note) => (
        <p key={note.why} className="mb-2 border-l-2 border-ochre py-1 pl-4">
          <span className="text-ochre">{note.why}</span> {note.remedy}
        </p>
      ))}
      <dl className="grid grid-cols-[max-content_1fr] gap-x-6 gap-y-1">
        {rows.map(([term, text]) => (
          <div key={term} className="contents">
            <dt className="text-soft">{term}</dt>
            <dd>{text}</dd>
          </div>
        ))}
      </dl>
    </>
  )
}

/** The other places behind the same sign-in, asked for when a person wants to see them. */
function BehindSection({ account }: { account: Account }) {
  const client = useQueryClient()
  const provider = useProviders().data?.find((one) => one.name === account.provider)
  const [wanted, setWanted] = useState(false)
  const path = { params: { path: { name: account.name } } }
  const resources = useQuery({ queryKey: ['resources', account.name], queryFn: () => data(api.GET('/api/v1/accounts/{name}/resources', path)), enabled: wanted })
  const take = useMutation({
    mutationFn: async (values: string[]) => {
      for (const value of values) await data(api.POST('/api/v1/accounts/{name}/resources', { ...path, body: { value, name: nameFor(account.name, value) } }))
    },
    onSettled: () => {
      for (const key of ['accounts', 'space', 'resources', 'link-events', 'folder']) void client.invalidateQueries({ queryKey: [key] })
    },
  })
  if (!provider?.resource && !provider?.options.some((option) => option.name === 'area')) return null
  return (
    <section className="mt-6">
      <h2 className="border-b border-line py-1 text-large font-semibold">More with the same sign-in</h2>
      <div className="mt-2">
        {!wanted && (
          <Button look="quiet" onClick={() => setWanted(true)}>
            List every {provider.resource ?? 'area'}
          </Button>
        )}
        {wanted && resources.isPending && <p className="text-soft">Asking…</p>}
        {(resources.isError || take.isError) && <Failed error={resources.error ?? take.error} />}
        {resources.data && <ResourceChoice key={resources.dataUpdatedAt} resources={resources.data} busy={take.isPending} onTake={(values) => take.mutate(values)} />}
      </div>
    </section>
  )
}

const words: Record<string, { shape: string; colour: string }> = {
  linked: { shape: '✓', colour: 'text-reed' }, reauthorized: { shape: '✓', colour: 'text-reed' }, resumed: { shape: '✓', colour: 'text-reed' },
  'sign-in-expired': { shape: '▬', colour: 'text-ochre' }, refused: { shape: '▬', colour: 'text-ochre' }, suspended: { shape: '▬', colour: 'text-ochre' }, unlinked: { shape: '╱', colour: 'text-soft' },
}

function HistorySection({ name }: { name: string }) {
  const history = useHistory(name)
  return (
    <section className="mt-6">
      <h2 className="border-b border-line py-1 text-large font-semibold">History</h2>
      {history.isError && <Failed error={history.error} />}
      <table className="w-full">
        <thead className="text-left text-small text-soft">
          <tr className="border-b border-line">
            <th className="py-1 pr-6 font-normal">When</th>
            <th className="py-1 pr-6 font-normal">What</th>
            <th className="hidden py-1 pr-6 font-normal sm:table-cell">By</th>
            <th className="py-1 font-normal">Reason and settings</th>
          </tr>
        </thead>
        <tbody>
          {history.data?.toReversed().map((event, i) => (
            <tr key={`${event.at} ${i}`} className="h-8 border-b border-line align-baseline">
              <td className="pr-6 whitespace-nowrap">{when(event.at)}</td>
              <td className={`pr-6 whitespace-nowrap ${words[event.what]?.colour ?? ''}`}>
                {words[event.what]?.shape ?? '·'} {event.what}
              </td>
              <td className="hidden pr-6 whitespace-nowrap text-soft sm:table-cell">{event.by || 'not kept'}</td>
              <td>
                {event.why && <span className="break-words">{plain(event.why)} </span>}
                {['linked', 'unlinked'].includes(event.what) && (
                  <span className="text-soft">
                    {event.settings.provider} <span className="font-mono text-small wrap-anywhere">{plain(whereOf({ options: event.settings.options, start: event.settings.start }, undefined))}</span>
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
