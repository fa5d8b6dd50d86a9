import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { NavLink, Outlet, useLocation } from 'react-router'
import { api, data } from '../api/client'
import { useAccounts } from '../accounts/queries'
import { Button } from '../ui/Button'
import { Field } from '../ui/Field'
import { plain, when } from '../ui/format'
import { Menu, MenuItem } from '../ui/Menu'
import { Skeleton } from '../ui/Skeleton'
import { BandwidthHours } from '../ui/BandwidthHours'
import type { Limits } from '../ui/hours'
import { Failed } from '../ui/Banner'
import { useWorkers } from './workers'

const pages = [
  { to: '/settings/bandwidth', title: 'Bandwidth' },
  { to: '/settings/notifications', title: 'Notifications', owner: true },
  { to: '/settings/workers', title: 'Workers' },
  { to: '/settings/users', title: 'Users', owner: true },
  { to: '/settings/audit', title: 'Audit log', owner: true },
  { to: '/settings/backup', title: 'Backup', owner: true },
  { to: '/settings/health', title: 'Health', owner: true },
  { to: '/settings/signin', title: 'Your sign-in' },
  { to: '/settings/drive', title: 'Network drive' },
  { to: '/settings/shares', title: 'Share links' },
  { to: '/settings/tokens', title: 'Tokens' },
  { to: '/settings/sessions', title: 'Sign-ins' },
  { to: '/accounts/providers', title: 'Providers' },
  { to: '/settings/about', title: 'About' },
]

/** The settings, in pages. */
export function SettingsPage() {
  const { pathname } = useLocation()
  const who = useQuery({ queryKey: ['whoami'], queryFn: () => data(api.GET('/api/v1/whoami')), staleTime: Infinity })
  useEffect(() => {
    document.title = `${pages.find((page) => page.to === pathname)?.title ?? 'Settings'} · Deft Heron`
  }, [pathname])
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-x-8 md:flex-row">
      <nav aria-label="Settings" className="flex shrink-0 flex-wrap gap-x-4 py-3 md:w-44 md:flex-col md:gap-1">
        {pages.filter((page) => !page.owner || who.data?.role === 'owner').map((page) => (
          <NavLink key={page.to} to={page.to} className={({ isActive }) => `rounded-md px-2 py-1 ${isActive ? 'bg-panel font-semibold shadow-[inset_2px_0_0_var(--plumage)]' : 'text-soft hover:text-ink'}`}>
            {page.title}
          </NavLink>
        ))}
      </nav>
      <div className="relative min-h-0 min-w-0 flex-1 overflow-auto py-3">
        <Outlet />
      </div>
    </div>
  )
}

/** How fast bytes may move, of everything and of each account and site that has a limit, and how many runs move at once. */
export function BandwidthPage() {
  const limits = useQuery({ queryKey: ['bandwidth'], queryFn: () => data(api.GET('/api/v1/bandwidth')) })
  const accounts = useAccounts()
  const workers = useWorkers()
  const [added, setAdded] = useState<string[]>([])
  if (limits.isError) return <Failed error={limits.error} />
  if (!limits.data || !accounts.data) return <Skeleton rows={4} />
  const shown = accounts.data.filter((account) => limits.data.accounts[account.name] || added.includes(account.name))
  const others = accounts.data.filter((account) => !shown.includes(account))
  const sites = [...new Set([...Object.keys(limits.data.sites), ...(workers.data ?? []).map((worker) => worker.site)])].sort()
  const limited = sites.filter((site) => limits.data.sites[site] || added.includes(siteKey(site)))
  const free = sites.filter((site) => !limited.includes(site))
  return (
    <>
      <h1 className="text-title font-semibold">Bandwidth</h1>
      <p className="max-w-3xl pb-3 text-soft">
        Bandwidth limits up to providers and down from them. They take effect at once. Hours are in the service’s time zone.
      </p>
      <Row title="Everything" limits={limits.data.overall} />
      {limited.map((site) => (
        <Row key={siteKey(site)} title={`Site ${site}`} site={site} limits={limits.data.sites[site] ?? {}} />
      ))}
      {shown.map((account) => (
        <Row key={account.name} title={account.address} account={account.name} limits={limits.data.accounts[account.name] ?? {}} />
      ))}
      <div className="flex gap-3 border-t border-line py-3 empty:hidden">
        {others.length > 0 && (
          <Menu label="Limit an account" boxed>
            {others.map((account) => (
              <MenuItem key={account.name} onSelect={() => setAdded([...added, account.name])}>
                {account.address}
              </MenuItem>
            ))}
          </Menu>
        )}
        {free.length > 0 && (
          <Menu label="Limit a site" boxed>
            {free.map((site) => (
              <MenuItem key={site} onSelect={() => setAdded([...added, siteKey(site)])}>
                {site}
              </MenuItem>
            ))}
          </Menu>
        )}
      </div>
      <AtOnce />
    </>
  )
}

/** The browsers that are signed in. */
export function SessionsPage() {
  const client = useQueryClient()
  const sessions = useQuery({ queryKey: ['sessions'], queryFn: () => data(api.GET('/api/v1/sessions')) })
  const end = useMutation({
    mutationFn: async (id: string): Promise<void> => {
      await (id ? api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } }) : api.DELETE('/api/v1/sessions'))
    },
    onSettled: () => void client.invalidateQueries({ queryKey: ['sessions'] }),
  })
  return (
    <>
      <h1 className="text-title font-semibold">Sign-ins</h1>
      <p className="max-w-3xl text-soft">Browsers that are signed in to this service. What you do not recognise, end.</p>
      {(sessions.isError || end.isError) && <Failed error={sessions.error ?? end.error} />}
      {sessions.isPending && <Skeleton rows={3} />}
      {sessions.data && (
        <>
          <table className="mt-2 w-full max-w-4xl">
            <thead className="text-left text-small text-soft">
              <tr className="border-b border-line">
                <th className="py-1 pr-4 font-normal">User</th>
                <th className="py-1 pr-4 font-normal">Browser</th>
                <th className="hidden py-1 pr-4 font-normal sm:table-cell">From</th>
                <th className="py-1 pr-4 font-normal">Signed in</th>
                <th className="hidden py-1 pr-4 font-normal sm:table-cell">Last used</th>
                <th className="py-1 font-normal">
                  <span className="sr-only">Actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {sessions.data.map((session) => (
                <tr key={session.id} className="border-b border-line align-baseline">
                  <td className="py-1 pr-4">{session.user}</td>
                  <td className="py-1 pr-4 text-small wrap-anywhere">{plain(session.client || 'not reported')}</td>
                  <td className="hidden py-1 pr-4 font-mono text-small whitespace-nowrap sm:table-cell">{session.from}</td>
                  <td className="py-1 pr-4 whitespace-nowrap">{when(session.started)}</td>
                  <td className="hidden py-1 pr-4 whitespace-nowrap sm:table-cell">{when(session.seen)}</td>
                  <td className="py-1 text-right whitespace-nowrap">
                    {session.current ? (
                      <span className="text-soft">this browser</span>
                    ) : (
                      <Button look="quiet" disabled={end.isPending} onClick={() => end.mutate(session.id)}>
                        End
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <Button className="mt-3" disabled={end.isPending || sessions.data.length < 2} onClick={() => end.mutate('')}>
            End all others
          </Button>
        </>
      )}
    </>
  )
}

/** What this service is. */
export function AboutPage() {
  const who = useQuery({ queryKey: ['whoami'], queryFn: () => data(api.GET('/api/v1/whoami')), staleTime: Infinity })
  const rows: [string, string][] = [
    ['Version', who.data?.version ?? '…'],
    ['Data folder’s id', who.data?.instance ?? '…'],
    ['You are', who.data ? `${who.data.user}, with the role ${who.data.role}, signed in by ${who.data.kind === 'session' ? 'this browser' : 'a token'}` : '…'],
  ]
  return (
    <>
      <h1 className="text-title font-semibold">About</h1>
      <p className="max-w-3xl text-soft">Deft Heron links storage accounts in one tree, and copies, migrates and keeps them in sync.</p>
      <dl className="mt-3 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-6 gap-y-1">
        {rows.map(([term, text]) => (
          <div key={term} className="contents">
            <dt className="text-soft">{term}</dt>
            <dd>{text}</dd>
          </div>
        ))}
      </dl>
      <p className="mt-3">
        <a href="/api/v1/openapi.json" className="text-plumage hover:underline">
          The API of this service (OpenAPI)
        </a>
      </p>
    </>
  )
}

/** How many runs move at once. */
function AtOnce() {
  const client = useQueryClient()
  const kept = useQuery({ queryKey: ['runs at once'], queryFn: () => data(api.GET('/api/v1/runs-at-once')) })
  const [given, setGiven] = useState<string>()
  const save = useMutation({
    mutationFn: (runs: number) => data(api.PUT('/api/v1/runs-at-once', { body: { runs } })),
    onSuccess: () => {
      setGiven(undefined)
      void client.invalidateQueries({ queryKey: ['runs at once'] })
    },
  })
  const text = given ?? kept.data?.runs.toString() ?? ''
  return (
    <form
      aria-label="Runs at once"
      className="flex flex-wrap items-end gap-4 border-t border-line py-3"
      onSubmit={(event) => {
        event.preventDefault()
        save.mutate(Number(text))
      }}
    >
      <Field label="Runs at once; others are queued, by priority" inputMode="numeric" value={text} onChange={(event) => setGiven(event.target.value.replace(/\D/g, ''))} />
      <Button look={given !== undefined ? 'first' : undefined} type="submit" disabled={!given || save.isPending}>
        Set the number
      </Button>
      {save.isError && <Failed error={save.error} />}
    </form>
  )
}

/** What a site is kept by among names of accounts, none of which has a slash. */
const siteKey = (site: string) => `site/${site}`

/** The limits of an account, of a site, or of everything. */
function Row({ title, account, site, limits }: { title: string; account?: string; site?: string; limits: Limits }) {
  const client = useQueryClient()
  const [up, setUp] = useState(limits.up ?? '')
  const [down, setDown] = useState(limits.down ?? '')
  const [hours, setHours] = useState(limits.hours)
  const save = useMutation({
    mutationFn: () => {
      const body = { up: up || undefined, down: down || undefined, hours: hours?.filter((one) => one.when || one.rate) }
      if (account) return data(api.PUT('/api/v1/accounts/{name}/bandwidth', { params: { path: { name: account } }, body }))
      if (site) return data(api.PUT('/api/v1/sites/{name}/bandwidth', { params: { path: { name: site } }, body }))
      return data(api.PUT('/api/v1/bandwidth', { body }))
    },
    onSuccess: () => void client.invalidateQueries({ queryKey: ['bandwidth'] }),
  })
  const changed = up !== (limits.up ?? '') || down !== (limits.down ?? '') || JSON.stringify(hours ?? []) !== JSON.stringify(limits.hours ?? [])
  return (
    <form
      aria-label={`Bandwidth of ${title}`}
      className="border-t border-line py-3"
      onSubmit={(event) => {
        event.preventDefault()
        save.mutate()
      }}
    >
      <div className="grid items-start gap-4 md:grid-cols-[180px_140px_140px_minmax(0,1fr)_auto]">
        <h2 className={account ? 'pt-6 font-mono text-small break-all' : 'pt-5'}>{title}</h2>
        <Field label="Up" placeholder="unlimited" value={up} onChange={(event) => setUp(event.target.value)} />
        <Field label="Down" placeholder="unlimited" value={down} onChange={(event) => setDown(event.target.value)} />
        <BandwidthHours value={hours} onChange={setHours} />
        <div className="pt-6">
          <Button look={changed ? 'first' : undefined} type="submit" disabled={!changed || save.isPending}>
            Set
          </Button>
        </div>
      </div>
      {save.isError && <Failed error={save.error} />}
      {save.isSuccess && !changed && (
        <p role="status" className="pt-1 text-small text-reed">
          In force.
        </p>
      )}
    </form>
  )
}
