import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useEffect, useState } from 'react'
import { Link } from 'react-router'
import { type Account, api, data, type Provider, type Space } from '../api/client'
import { treeLink } from '../tree/address'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { bytes, plain, when } from '../ui/format'
import { Empty, Failed } from '../ui/Notice'
import { State } from '../ui/State'
import { useAccounts, useProviders, useSpace } from './queries'

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
        <Link to="/accounts/link" className="inline-flex h-8 items-center rounded-md border border-plumage bg-plumage px-3 text-panel hover:opacity-90">
          Link an account
        </Link>
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
    </div>
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

/** What an account was linked with, but for what is so for every account there. */
const whereOf = (account: Account, provider: Provider | undefined) =>
  Object.entries(account.options)
    .filter(([name, value]) => value && value !== provider?.options.find((option) => option.name === name)?.default)
    .map(([name, value]) => `${name} ${value}`)
    .join(', ') + (account.start ? `, start ${account.start}` : '')

function AccountRow({ account, space, asking }: { account: Account; space?: Space; asking: boolean }) {
  const client = useQueryClient()
  const provider = useProviders().data?.find((one) => one.name === account.provider)
  const [unlinking, setUnlinking] = useState(false)
  const check = useMutation({
    mutationFn: () => data(api.POST('/api/v1/accounts/{name}/check', { params: { path: { name: account.name } } })),
    onSettled: () => {
      for (const key of ['accounts', 'space']) void client.invalidateQueries({ queryKey: [key] })
    },
  })
  return (
    <>
      <tr className={`h-8 align-baseline hover:bg-panel ${account.why ? '' : 'border-b border-line'}`}>
        <td className="py-1 pr-4">
          <Link to={treeLink(account.address)} className="font-mono text-small whitespace-nowrap text-plumage hover:underline">
            {account.address}
          </Link>
        </td>
        <td className="pr-4 sm:whitespace-nowrap">
          <State state={account.state} />
          {account.read_only && <span className="text-small whitespace-nowrap text-soft sm:ml-2">read only</span>}
        </td>
        <td className="hidden pr-4 sm:table-cell">
          {account.provider} <span className="font-mono text-small break-all text-soft">{plain(whereOf(account, provider))}</span>
        </td>
        <SpaceCells space={space} asking={asking} />
        <td className="pl-2 text-right sm:pl-4 sm:whitespace-nowrap">
          {account.state === 'lapsed' && (
            <Link to={`/accounts/mend/${account.name}`} className="inline-flex h-8 items-center px-2 text-ochre hover:underline" aria-label={`Mend ${account.name}`}>
              Mend
            </Link>
          )}
          <Button look="quiet" disabled={check.isPending} onClick={() => check.mutate()} aria-label={`Check ${account.name}`}>
            {check.isPending ? 'Checking…' : 'Check'}
          </Button>
          <Button look="quiet" onClick={() => setUnlinking(true)} aria-label={`Unlink ${account.name}`}>
            Unlink
          </Button>
        </td>
      </tr>
      {account.why && !check.isError && (
        <tr className="border-b border-line">
          <td colSpan={6} className="py-1 pl-4 text-small">
            <span className="text-ochre">{account.why}</span> {account.remedy}
          </td>
        </tr>
      )}
      {(check.isError || check.data?.found) && (
        <tr className="border-b border-line">
          <td colSpan={6} className="py-2 pl-4">
            {check.isError ? <Failed error={check.error} /> : <Found account={check.data!} />}
          </td>
        </tr>
      )}
      {unlinking && <UnlinkDialog account={account} onClose={() => setUnlinking(false)} />}
    </>
  )
}

/** What was found at an account when it was reached. */
export function Found({ account }: { account: Account }) {
  const found = account.found
  if (!found) return null
  const space = found.space
  const rows: [string, string][] = [
    ['Owner', found.owner || 'not told by the provider'],
    ['Space', space.used < 0 && space.free < 0 ? 'not told by the provider' : space.total < 0 && space.free < 0 ? `${bytes(space.used)} used, no limit told` : `${bytes(space.used)} used, ${bytes(space.free)} free of ${bytes(space.total)}`],
    ...(found.areas && found.areas.length > 1 ? [['Areas', found.areas.map((area) => plain(area)).join(', ')] as [string, string]] : []),
    ['Top folders', found.folders.map((name) => plain(name)).join(', ') || 'none'],
  ]
  return (
    <div role="status" className="flex gap-x-8">
      <p className="whitespace-nowrap text-reed">✓ reached</p>
      <dl className="flex flex-wrap gap-x-8 gap-y-2">
        {rows.map(([term, text]) => (
          <div key={term}>
            <dt className="text-small text-soft">{term}</dt>
            <dd>{text}</dd>
          </div>
        ))}
      </dl>
    </div>
  )
}

function UnlinkDialog({ account, onClose }: { account: Account; onClose: () => void }) {
  const client = useQueryClient()
  const unlink = useMutation({
    mutationFn: () => data(api.DELETE('/api/v1/accounts/{name}', { params: { path: { name: account.name } } })),
    onSuccess: () => {
      void client.invalidateQueries()
      onClose()
    },
  })
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Unlink ${account.address}?`}
      description={`Nothing there is removed. Its secret is forgotten, and what is remembered of copies from and to it. It was linked ${when(account.linked)}.`}
    >
      <div className="grid gap-4">
        {unlink.isError && <Failed error={unlink.error} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Keep it</Button>
          <Button look="danger" disabled={unlink.isPending} onClick={() => unlink.mutate()}>
            Unlink {account.name}
          </Button>
        </div>
      </div>
    </Dialog>
  )
}
