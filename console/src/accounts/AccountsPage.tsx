import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useEffect, useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { type Account, api, data, type Space } from '../api/client'
import { filesLink } from '../files/address'
import { Button } from '../ui/Button'
import { bytes, plain, when } from '../ui/format'
import { Menu, MenuItem } from '../ui/Menu'
import { Empty, Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { Found, signsIn, whereOf } from './Found'
import { endedLinks, useAccounts, useHistory, useProviders, useSpace } from './queries'
import { UnlinkDialog } from './UnlinkDialog'
import { Changing } from '../ui/may'

export function AccountsPage() {
  const accounts = useAccounts()
  const spaces = useSpace()
  useEffect(() => {
    document.title = 'Accounts · Deft Heron'
  }, [])
  const known = new Map(spaces.data?.accounts.map((space) => [space.account, space]))
  return (
    <div className="relative min-h-0 flex-1 overflow-auto pb-8">
      <div className="flex items-center gap-4 py-3">
        <h1 className="flex-1 text-title font-semibold">Accounts</h1>
        <Link to="/accounts/providers" className="text-plumage hover:underline">
          Providers
        </Link>
        <Changing>
          <Link to="/accounts/link" className="inline-flex h-8 items-center rounded-md border border-plumage bg-plumage px-3 text-panel hover:opacity-90">
            Link an account
          </Link>
        </Changing>
      </div>
      {accounts.isError && <Failed error={accounts.error} />}
      {accounts.isSuccess && accounts.data.length === 0 && (
        <Empty
          action={
            <Link to="/accounts/link" className="text-plumage hover:underline">
              Link the first
            </Link>
          }
        >
          Here the places stand that files are copied between. None is linked yet.
        </Empty>
      )}
      {accounts.isSuccess && accounts.data.length > 0 && (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 font-normal">Name</th>
              <th className="py-1 font-normal">State</th>
              <th className="hidden py-1 font-normal sm:table-cell">Where</th>
              <th className="hidden py-1 pl-4 text-right font-normal sm:table-cell">Used</th>
              <th className="py-1 pl-4 text-right font-normal">Free</th>
              <th className="py-1 pl-4 font-normal">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {accounts.data.map((account) => (
              <AccountRow key={account.name} account={account} space={known.get(account.name)?.space} asking={spaces.isPending} />
            ))}
            {accounts.data.length > 1 && (
              <tr className="h-8 text-soft">
                <td className="py-1" colSpan={2}>
                  Together; what shares a disk counts once
                </td>
                <td className="hidden sm:table-cell" />
                <SpaceCells space={spaces.data?.together} asking={spaces.isPending} />
                <td />
              </tr>
            )}
          </tbody>
        </table>
      )}
      <EndedLinks />
    </div>
  )
}

/** Links that have ended, which can be made again from what is remembered. */
function EndedLinks() {
  const ended = endedLinks(useHistory().data ?? [])
  const providers = useProviders().data
  if (ended.length === 0) return null
  return (
    <section className="mt-8">
      <h2 className="border-b border-line py-1 text-large font-semibold">Unlinked</h2>
      {ended.map((event) => (
        <div key={event.link} className="flex flex-wrap items-baseline gap-x-4 border-b border-line py-1">
          <span className="font-mono text-small">/{event.account}</span>
          <span className="flex-1 text-soft">
            {event.settings.provider} <span className="font-mono text-small wrap-anywhere">{plain(whereOf({ options: event.settings.options, start: event.settings.start }, providers?.find((one) => one.name === event.settings.provider)))}</span>
          </span>
          <span className="text-small text-soft">{when(event.at)}</span>
          <Link to={`/accounts/link?again=${event.account}`} className="text-plumage hover:underline" aria-label={`Link it again: ${event.account}`}>
            Link it again
          </Link>
        </div>
      ))}
    </section>
  )
}

function SpaceCells({ space, asking }: { space?: Space; asking: boolean }) {
  const figure = (n: number | undefined): ReactNode => (asking ? <span className="text-soft">…</span> : n === undefined || n < 0 ? <span className="text-soft">not told</span> : bytes(n))
  const part = space && space.total > 0 && space.used >= 0 ? Math.min(100, (space.used / space.total) * 100) : undefined
  return (
    <>
      <td className="hidden pl-4 text-right whitespace-nowrap sm:table-cell" title={part === undefined ? undefined : `${Math.round(part)} % of ${bytes(space!.total)}`}>
        {figure(space?.used)}
      </td>
      <td className="pl-4 text-right whitespace-nowrap">{figure(space?.free)}</td>
    </>
  )
}

function AccountRow({ account, space, asking }: { account: Account; space?: Space; asking: boolean }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const provider = useProviders().data?.find((one) => one.name === account.provider)
  const [unlinking, setUnlinking] = useState(false)
  const refresh = () => {
    for (const key of ['accounts', 'space', 'link-events', 'folder']) void client.invalidateQueries({ queryKey: [key] })
  }
  const path = { params: { path: { name: account.name } } }
  const check = useMutation({ mutationFn: () => data(api.POST('/api/v1/accounts/{name}/check', path)), onSettled: refresh })
  const suspended = account.state === 'suspended'
  const turn = useMutation({
    mutationFn: () => data(suspended ? api.POST('/api/v1/accounts/{name}/resume', path) : api.POST('/api/v1/accounts/{name}/suspend', path)),
    onSettled: refresh,
  })
  const notes = (account.why ? [{ why: account.why, remedy: account.remedy ?? '' }] : []).concat(account.warnings ?? [])
  const more = check.isError || turn.isError || check.data?.found
  return (
    <>
      <tr className={`h-8 align-baseline hover:bg-panel ${notes.length > 0 || more ? '' : 'border-b border-line'}`}>
        <td className="py-1 pr-4">
          <Link to={suspended ? `/accounts/${account.name}` : filesLink(account.address)} className="font-mono text-small whitespace-nowrap text-plumage hover:underline">
            {account.address}
          </Link>
        </td>
        <td className="pr-4 sm:whitespace-nowrap">
          <State state={account.state} />
          {account.read_only && <span className="text-small whitespace-nowrap text-soft sm:ml-2">read only</span>}
        </td>
        <td className="hidden pr-4 sm:table-cell">
          {account.provider} <span className="font-mono text-small wrap-anywhere text-soft">{plain(whereOf(account, provider))}</span>
          {account.site && <span className="text-small text-soft"> · at {account.site}</span>}
        </td>
        <SpaceCells space={space} asking={asking && !suspended} />
        <td className="pl-2 text-right sm:pl-4 sm:whitespace-nowrap">
          {account.state === 'sign-in-expired' && (
            <Link to={`/accounts/reauthorize/${account.name}`} className="inline-flex h-8 items-center px-2 text-ochre hover:underline" aria-label={`Reauthorize ${account.name}`}>
              Reauthorize
            </Link>
          )}
          {suspended ? (
            <Button look="quiet" disabled={turn.isPending} onClick={() => turn.mutate()} aria-label={`Resume ${account.name}`}>
              Resume
            </Button>
          ) : (
            <Button look="quiet" disabled={check.isPending} onClick={() => check.mutate()} aria-label={`Check ${account.name}`}>
              {check.isPending ? 'Checking…' : 'Check'}
            </Button>
          )}
          <Link to={`/accounts/${account.name}`} className="inline-flex h-8 items-center px-2 text-plumage hover:underline" aria-label={`Details of ${account.name}`}>
            Details
          </Link>
          <Menu label={<>More<span className="sr-only"> for {account.name}</span></>}>
            <MenuItem onSelect={() => void navigate(`/accounts/${account.name}/edit`)}>Edit…</MenuItem>
            {signsIn(provider) && <MenuItem onSelect={() => void navigate(`/accounts/reauthorize/${account.name}`)}>Sign in again…</MenuItem>}
            {!suspended && <MenuItem onSelect={() => turn.mutate()}>Suspend</MenuItem>}
            <MenuItem onSelect={() => setUnlinking(true)}>Unlink…</MenuItem>
          </Menu>
          {unlinking && <UnlinkDialog account={account} onClose={() => setUnlinking(false)} />}
        </td>
      </tr>
      {!check.isError &&
        notes.map((note, i) => (
          <tr key={note.why} className={i === notes.length - 1 && !more ? 'border-b border-line' : ''}>
            <td colSpan={6} className="py-1 pl-4 text-small">
              <span className="text-ochre">{note.why}</span> {note.remedy}
            </td>
          </tr>
        ))}
      {more && (
        <tr className="border-b border-line">
          <td colSpan={6} className="py-2 pl-4">
            {check.isError || turn.isError ? <Failed error={check.error ?? turn.error} /> : <Found account={check.data!} />}
          </td>
        </tr>
      )}
    </>
  )
}
