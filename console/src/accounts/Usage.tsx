import { useQuery } from '@tanstack/react-query'
import { lazy, Suspense, useMemo, useState } from 'react'
import { Link } from 'react-router'
import { type Account, type AccountUsage, api, data } from '../api/client'
import { useJobs } from '../jobs/queries'
import { Failed } from '../ui/Banner'
import { bytes, count, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'
import { Tabs } from '../ui/Tabs'

const UsageCharts = lazy(() => import('./UsageCharts'))

const spans = [
  { value: '1', title: '24 hours' },
  { value: '7', title: '7 days' },
  { value: '30', title: '30 days' },
]

/** What an account was used for: its space, the network rate and the requests over time. */
export function UsageSection({ account }: { account: Account }) {
  const [days, setDays] = useState('1')
  const usage = useQuery({
    queryKey: ['usage', account.name, days],
    queryFn: () => data(api.GET('/api/v1/accounts/{name}/usage', { params: { path: { name: account.name }, query: { days: Number(days) } } })),
    refetchInterval: 60_000,
  })
  return (
    <section className="mt-6" aria-label="Use">
      <div className="flex flex-wrap items-center justify-between border-b border-line">
        <h2 className="py-1 text-large font-semibold">Use</h2>
        <Tabs label="Time shown" value={days} onChange={setDays} choices={spans} />
      </div>
      {usage.isError && <Failed error={usage.error} />}
      {usage.isPending && <Skeleton rows={6} />}
      {usage.data && (
        <div className="mt-2">
          {usage.data.full && <p className="mb-2 text-ochre">If it goes on filling as it has, it is full on {when(usage.data.full).slice(0, 10)}.</p>}
          <Suspense fallback={<Skeleton rows={6} />}>
            <UsageCharts usage={usage.data} days={Number(days)} />
          </Suspense>
          <UsageTable usage={usage.data} />
        </div>
      )}
    </section>
  )
}

/** The same figures by day. */
function UsageTable({ usage }: { usage: AccountUsage }) {
  const rows = useMemo(() => {
    const byDay = new Map<string, { requests: number; slowDowns: number; up: number; down: number }>()
    usage.at.forEach((at, i) => {
      const day = when(new Date(at * 1000).toISOString()).slice(0, 10)
      const sum = byDay.get(day) ?? { requests: 0, slowDowns: 0, up: 0, down: 0 }
      sum.requests += usage.requests[i]!
      sum.slowDowns += usage.slow_downs[i]!
      sum.up += usage.up[i]!
      sum.down += usage.down[i]!
      byDay.set(day, sum)
    })
    return [...byDay].toReversed()
  }, [usage])
  if (rows.length === 0) return null
  return (
    <details className="mt-2">
      <summary className="cursor-pointer text-plumage">Figures by day</summary>
      <table className="mt-1">
        <thead className="text-left text-small text-soft">
          <tr className="border-b border-line">
            <th className="py-1 pr-6 font-normal">Day</th>
            <th className="py-1 pr-6 text-right font-normal">Requests</th>
            <th className="py-1 pr-6 text-right font-normal">Asked to slow down</th>
            <th className="py-1 pr-6 text-right font-normal">Sent</th>
            <th className="py-1 text-right font-normal">Received</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([day, sum]) => (
            <tr key={day} className="h-8 border-b border-line">
              <td className="pr-6">{day}</td>
              <td className="pr-6 text-right">{count(sum.requests)}</td>
              <td className="pr-6 text-right">{count(sum.slowDowns)}</td>
              <td className="pr-6 text-right">{bytes(sum.up)}</td>
              <td className="text-right">{bytes(sum.down)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  )
}

/** The jobs that read from or write to an account. */
export function JobsSection({ account }: { account: Account }) {
  const jobs = useJobs()
  const inAccount = (address: string) => address === account.address || address.startsWith(`${account.address}/`)
  const mine = (jobs.data?.jobs ?? []).filter((job) => job.routes.some((route) => inAccount(route.from) || inAccount(route.to)))
  return (
    <section className="mt-6" aria-label="Jobs">
      <h2 className="border-b border-line py-1 text-large font-semibold">Jobs</h2>
      {jobs.isError && <Failed error={jobs.error} />}
      {jobs.isSuccess && mine.length === 0 && <p className="mt-2 text-soft">No job uses this account.</p>}
      <ul>
        {mine.map((job) => (
          <li key={job.name} className="flex flex-wrap items-baseline gap-x-4 border-b border-line py-1">
            <Link to={`/jobs/${job.name}`} className="text-plumage hover:underline">
              {job.name}
            </Link>
            <span className="text-soft">{job.type}</span>
            <span className="text-soft">{job.routes.some((route) => inAccount(route.from)) ? 'reads from it' : 'writes to it'}</span>
          </li>
        ))}
      </ul>
      <p className="mt-2">
        <Link to={`/runs?${new URLSearchParams({ account: account.name })}`} className="text-plumage hover:underline">
          All runs of this account
        </Link>
      </p>
    </section>
  )
}
