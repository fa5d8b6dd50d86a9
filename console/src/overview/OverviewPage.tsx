import { useQuery } from '@tanstack/react-query'
import { lazy, type ReactNode, Suspense, useEffect } from 'react'
import { Link } from 'react-router'
import { useAccounts, useSpace } from '../accounts/queries'
import { serviceNow } from '../api/clock'
import { api, data, type Run } from '../api/client'
import { useJobs } from '../jobs/queries'
import { useLive } from '../live/live'
import { nameOf, percentOf } from '../runs/run'
import { filesLink } from '../files/address'
import { useWorkers } from '../settings/workers'
import { Failed } from '../ui/Banner'
import { bytes, capital, duration, plain, some, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'
import { State } from '../ui/State'
import { Strip } from './Strip'
import { Changing, useMayChange } from '../ui/may'

// The flow map brings a library of its own.
const Flows = lazy(() => import('./Flows'))

const dayAgo = () => new Date(Math.floor(serviceNow() / 3_600_000) * 3_600_000 - 86_400_000).toISOString()

/** What needs a decision first; then what runs, the day, the space and the flows. */
export function OverviewPage() {
  const may = useMayChange()
  useEffect(() => {
    document.title = 'Overview · Deft Heron'
  }, [])
  const accounts = useAccounts()
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="sr-only">Overview</h1>
      {accounts.isError && <Failed error={accounts.error} />}
      {accounts.data?.length === 0 ? (
        <div className="py-12 text-soft">
          <p>The overview shows what needs a decision, what is running, and the space of all accounts. No account is {may ? 'linked' : 'granted to you'} yet.</p>
          <Changing>
            <Link to="/accounts/link" className="mt-3 inline-block text-plumage hover:underline">
              Link an account
            </Link>
          </Changing>
        </div>
      ) : (
        <>
          <Decisions />
          <Running />
          <Day />
          <Space />
          <Workers />
          <Section title="Transferred in the last 30 days">
            <Suspense fallback={<Skeleton rows={4} />}>
              <Flows />
            </Suspense>
          </Section>
        </>
      )}
    </div>
  )
}

/** The machines that reach places for the service, where there are any. */
function Workers() {
  const workers = useWorkers()
  if (!workers.data?.length) return null
  return (
    <Section title="Workers">
      <ul className="flex flex-wrap gap-x-8 gap-y-1">
        {workers.data.map((worker) => (
          <li key={worker.name} className="flex items-center gap-2">
            <Link to="/settings/workers" className="text-plumage hover:underline">
              {worker.name}
            </Link>
            <State state={worker.state} />
            <span className="text-small text-soft">
              site {worker.site}
              {worker.requests > 0 && `, ${some(worker.requests, 'request')}`}
            </span>
          </li>
        ))}
      </ul>
    </Section>
  )
}

export function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section aria-label={title} className="border-b border-line py-4">
      <h2 className="mb-2 text-large font-semibold">{title}</h2>
      {children}
    </section>
  )
}

const useRunsOf = (key: string, query: Record<string, string | string[] | number>) =>
  useQuery({ queryKey: ['runs', key, query], queryFn: () => data(api.GET('/api/v1/runs', { params: { query } })) })

type Decision = { key: string; state: string; text: string; detail?: string; action: string; to: string }

function Decisions() {
  const held = useRunsOf('held', { state: ['held'], limit: 50 })
  const failed = useRunsOf('failed', { state: ['failed', 'partial'], from: dayAgo(), limit: 20 })
  const accounts = useAccounts()
  const rehearsals = useQuery({ queryKey: ['rehearsals', 'warnings'], queryFn: () => data(api.GET('/api/v1/rehearsals/warnings')), refetchInterval: 60_000 })
  const workers = useWorkers()
  const who = useQuery({ queryKey: ['whoami'], queryFn: () => data(api.GET('/api/v1/whoami')), staleTime: Infinity })
  const backups = useQuery({ queryKey: ['backups'], queryFn: () => data(api.GET('/api/v1/backup-schedule')), enabled: who.data?.role === 'owner', retry: false, refetchInterval: 60_000 })
  if (held.isPending || failed.isPending || accounts.isPending) {
    return (
      <Section title="Needs a decision">
        <Skeleton rows={2} />
      </Section>
    )
  }
  const rows: Decision[] = [
    ...(held.data?.runs ?? []).map((run) => ({ key: run.id, state: 'held', text: nameOf(run), detail: run.why ? `${capital(run.why)}.` : undefined, action: 'Decide', to: `/runs/${run.id}` })),
    ...(accounts.data ?? [])
      .filter((account) => account.state === 'sign-in-expired')
      .map((account) => ({ key: account.name, state: account.state, text: account.address, detail: 'The provider no longer accepts the sign-in.', action: 'Reauthorize', to: `/accounts/reauthorize/${account.name}` })),
    ...(accounts.data ?? [])
      .filter((account) => account.state === 'unreachable')
      .map((account) => ({ key: account.name, state: account.state, text: account.address, detail: 'The account cannot be reached.', action: 'Open', to: `/accounts/${account.name}` })),
    ...(failed.data?.runs ?? []).map((run) => ({
      key: run.id,
      state: run.state,
      text: nameOf(run),
      detail: run.items.failed > 0 ? `${some(run.items.failed, 'item')} failed.` : run.why ? `${capital(run.why)}.` : undefined,
      action: 'See why',
      to: `/runs/${run.id}`,
    })),
    ...(rehearsals.data ?? []).map((one) => ({
      key: `rehearsal ${one.job}`,
      state: one.due ? 'warning' : 'failed',
      text: one.job,
      detail: one.due ? `The rehearsal of a restore was due ${when(one.due)}.` : 'The last rehearsal of a restore failed.',
      action: 'Open',
      to: `/jobs/${one.job}`,
    })),
    ...(workers.data ?? [])
      .filter((worker) => ['offline', 'outdated', 'untrusted'].includes(worker.state))
      .map((worker) => ({ key: `worker ${worker.name}`, state: worker.state, text: `Worker ${worker.name}`, detail: worker.remedy, action: 'Open', to: '/settings/workers' })),
    ...(backups.data?.schedule?.overdue
      ? [{ key: 'backup', state: backups.data.schedule.failed ? 'failed' : 'warning', text: 'Backup of this service', detail: backups.data.schedule.failed ? `The last backup failed: ${backups.data.schedule.failed}.` : 'A backup is overdue.', action: 'Open', to: '/settings/backup' }]
      : []),
    ...(accounts.data ?? []).flatMap((account) =>
      (account.warnings ?? [])
        .filter((warning) => warning.what !== 'linked-twice')
        .map((warning) => ({ key: `${warning.what} ${account.name}`, state: 'warning', text: account.address, detail: `${warning.why} ${warning.remedy}`, action: 'Open', to: `/accounts/${account.name}` })),
    ),
  ]
  return (
    <Section title="Needs a decision">
      {rows.length === 0 ? (
        <p className="text-soft">Nothing. No run is held, none failed in the last 24 hours, and every account can be reached.</p>
      ) : (
        <ul>
          {rows.map((row) => (
            <li key={row.state + row.key} className="grid grid-cols-[minmax(0,1fr)_auto] items-baseline gap-x-4 border-t border-line py-1.5 first:border-t-0 sm:grid-cols-[150px_minmax(0,1fr)_auto]">
              <span className="hidden sm:block">
                <State state={row.state} />
              </span>
              <span className="min-w-0">
                <span className="font-semibold break-words">{plain(row.text)}</span> <span className="text-soft">{row.detail}</span>
              </span>
              <Link to={row.to} className="inline-flex h-8 items-center rounded-md border border-ochre px-3 text-ochre hover:bg-panel">
                {row.action}
              </Link>
            </li>
          ))}
        </ul>
      )}
    </Section>
  )
}

function Running() {
  const { progress } = useLive()
  const open = useRunsOf('open', { state: ['queued', 'running', 'paused'], limit: 50 })
  const runs = (open.data?.runs ?? []).map((run) => progress.runs.find((now) => now.id === run.id) ?? run)
  return (
    <Section title="Running now">
      {open.isPending && <Skeleton rows={2} />}
      {open.isError && <Failed error={open.error} />}
      {open.isSuccess && runs.length === 0 && <p className="text-soft">Nothing is running.</p>}
      {runs.map((run) => (
        <RunningRow key={run.id} run={run} />
      ))}
    </Section>
  )
}

function RunningRow({ run }: { run: Run }) {
  const percent = percentOf(run)
  const waits = run.watching || (run.state === 'running' && run.planned && run.items.waiting === 0 && !run.now?.flying.length)
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 border-t border-line py-1.5 first:border-t-0 sm:grid-cols-[120px_minmax(0,2fr)_minmax(80px,1fr)_64px_110px_120px]">
      <span className="hidden sm:block">
        <State state={run.state} />
      </span>
      <Link to={`/runs/${run.id}`} className="min-w-0 break-words text-plumage hover:underline">
        {plain(nameOf(run))}
      </Link>
      {waits ? (
        <span className="text-soft sm:col-span-4">in sync, waiting for changes</span>
      ) : (
        <>
          <span role="progressbar" aria-label={`Progress of ${run.id}`} aria-valuenow={percent} aria-valuemin={0} aria-valuemax={100} className="hidden h-1.5 bg-line sm:block">
            <span className="block h-full bg-plumage" style={{ width: `${percent}%` }} />
          </span>
          <span className="text-right">{percent} %</span>
          <span className="hidden text-right whitespace-nowrap text-soft sm:block">{run.now ? `${bytes(Math.round(run.now.rate))}/s` : ''}</span>
          <span className="hidden text-right whitespace-nowrap text-soft sm:block">{run.now && run.now.left >= 0 ? `${duration(run.now.left)} left` : ''}</span>
        </>
      )}
    </div>
  )
}

function Day() {
  const past = useRunsOf('day', { from: dayAgo(), limit: 1000 })
  const jobs = useJobs()
  return (
    <Section title="The last 24 hours and the next">
      {past.isPending ? <Skeleton rows={3} /> : past.isError ? <Failed error={past.error} /> : <Strip runs={past.data.runs} more={!!past.data.next} jobs={jobs.data?.jobs ?? []} />}
    </Section>
  )
}

function Space() {
  const space = useSpace()
  if (space.isPending) {
    return (
      <Section title="Space">
        <Skeleton rows={3} />
      </Section>
    )
  }
  if (space.isError) {
    return (
      <Section title="Space">
        <Failed error={space.error} />
      </Section>
    )
  }
  return (
    <Section title="Space">
      {space.data.accounts.length === 0 && <p className="text-soft">You see folders of accounts, whose space is not shown.</p>}
      <ul>
        {space.data.accounts.map((one) => {
          const { used, free, total } = one.space
          const part = total > 0 && used >= 0 ? Math.min(100, (used / total) * 100) : undefined
          return (
            <li key={one.account} className="grid grid-cols-[minmax(0,1fr)_auto] items-center gap-x-4 py-1 sm:grid-cols-[180px_minmax(0,1fr)_240px]">
              <Link to={filesLink(`/${one.account}`)} className="font-mono text-small break-all text-plumage hover:underline">
                /{one.account}
              </Link>
              <span className={`hidden h-2 sm:block ${part === undefined ? '' : 'bg-line'}`} aria-hidden="true">
                {part !== undefined && <span className={`block h-full ${part > 95 ? 'bg-ochre' : 'bg-plumage'}`} style={{ width: `${Math.max(0.5, part)}%` }} />}
              </span>
              <span className="text-right whitespace-nowrap text-soft">
                {one.why ? 'unknown now' : part !== undefined ? `${bytes(used)} used, ${bytes(free)} free${one.full ? `, full on ${when(one.full).slice(0, 10)}` : ''}` : used >= 0 ? `${bytes(used)} used, no limit reported` : 'not reported by the provider'}
              </span>
            </li>
          )
        })}
      </ul>
    </Section>
  )
}

