import { useInfiniteQuery } from '@tanstack/react-query'
import { Fragment, useEffect } from 'react'
import { Link } from 'react-router'
import { useAccounts } from '../accounts/queries'
import { api, data, type Run } from '../api/client'
import { useJobs } from '../jobs/queries'
import { Address } from '../ui/Address'
import { Button } from '../ui/Button'
import { Empty, Failed } from '../ui/Banner'
import { Field, SelectField } from '../ui/Field'
import { FilterField } from '../ui/FilterField'
import { useFilters } from '../ui/filters'
import { bytes, count, duration, plain, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'
import { State } from '../ui/State'
import { useRun } from './queries'
import { nameOf, percentOf } from './run'

const states = ['queued', 'running', 'paused', 'held', 'done', 'partial', 'failed', 'cancelled']
const filters = ['job', 'account', 'state', 'from', 'to', 'text']

/** Midnight of a day of this browser's zone, some days later. */
const dayOf = (day: string, later = 0) => {
  const at = new Date(`${day}T00:00:00`)
  at.setDate(at.getDate() + later)
  return Number.isNaN(at.getTime()) ? undefined : at.toISOString()
}

/** The runs that the filters in the page's address take, newest first. */
export function RunsPage() {
  const { get, has, set, clear } = useFilters()
  const filtered = filters.some(has)
  const query = {
    job: get('job') || undefined,
    account: get('account') || undefined,
    state: get('state') ? (get('state').split(',') as Run['state'][]) : undefined,
    from: get('from') ? dayOf(get('from')) : undefined,
    to: get('to') ? dayOf(get('to'), 1) : undefined,
    text: get('text') || undefined,
  }
  const runs = useInfiniteQuery({
    queryKey: ['runs', 'all', query],
    queryFn: ({ pageParam }) => data(api.GET('/api/v1/runs', { params: { query: { limit: 100, cursor: pageParam, ...query } } })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
  })
  useEffect(() => {
    document.title = 'Runs · Deft Heron'
  }, [])
  const all = runs.data?.pages.flatMap((page) => page.runs) ?? []
  // A filter by text looks at some runs at a time: the page continues until it is full.
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = runs
  const few = all.length < 50
  useEffect(() => {
    if (query.text && few && hasNextPage && !isFetchingNextPage) void fetchNextPage()
  }, [query.text, few, hasNextPage, isFetchingNextPage, fetchNextPage])
  return (
    <div className="relative min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="py-3 text-title font-semibold">Runs</h1>
      <Filters get={get} set={set} onClear={filtered ? clear : undefined} />
      {runs.isPending && <Skeleton rows={6} />}
      {runs.isError && <Failed error={runs.error} />}
      {runs.isSuccess && all.length === 0 && !hasNextPage && !filtered && (
        <Empty action={<Link to="/files" className="text-plumage hover:underline">Choose files to copy</Link>}>
          A run is one execution of a job or a single copy, with its progress and its result. There are no runs yet.
        </Empty>
      )}
      {runs.isSuccess && all.length === 0 && !hasNextPage && filtered && <Empty>No run matches these filters.</Empty>}
      {all.length > 0 && (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 font-normal">Job, source and target</th>
              <th className="py-1 font-normal">State</th>
              <th className="hidden py-1 pl-4 font-normal lg:table-cell">Progress</th>
              <th className="py-1 pl-4 text-right font-normal">Done</th>
              <th className="py-1 pl-4 text-right font-normal">Failed</th>
              <th className="hidden py-1 pl-4 text-right font-normal sm:table-cell">Transferred</th>
              <th className="hidden py-1 pl-4 text-right font-normal lg:table-cell">Duration</th>
              <th className="hidden py-1 pl-4 text-right font-normal lg:table-cell">Average rate</th>
              <th className="hidden py-1 pl-4 text-right font-normal sm:table-cell">Started</th>
            </tr>
          </thead>
          <tbody>
            {all.map((run) => (
              <RunRow key={run.id} first={run} />
            ))}
          </tbody>
        </table>
      )}
      {hasNextPage && (
        <Button className="mt-3" disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
          {isFetchingNextPage ? 'Looking at older runs…' : 'Older runs'}
        </Button>
      )}
    </div>
  )
}

function Filters({ get, set, onClear }: { get: (name: string) => string; set: (name: string, value: string) => void; onClear?: () => void }) {
  const jobs = useJobs()
  const accounts = useAccounts()
  const any = { value: '', title: 'any' }
  const state = get('state')
  return (
    <form role="search" aria-label="Filter the runs" className="mb-3 grid grid-cols-2 items-end gap-3 sm:grid-cols-4 lg:grid-cols-[2fr_1.4fr_1.4fr_1.2fr_1fr_1fr_auto]" onSubmit={(event) => event.preventDefault()}>
      <FilterField label="Text" placeholder="id, job or address" value={get('text')} onChange={(value) => set('text', value)} />
      <SelectField label="Job" value={get('job')} onChange={(job) => set('job', job)} choices={[any, ...(jobs.data?.jobs ?? []).map((job) => ({ value: job.name, title: job.name }))]} />
      <SelectField label="Account" value={get('account')} onChange={(account) => set('account', account)} choices={[any, ...(accounts.data ?? []).map((account) => ({ value: account.name, title: account.name }))]} />
      <SelectField
        label="State"
        value={state}
        onChange={(next) => set('state', next)}
        choices={[any, { value: 'failed,partial', title: 'failed or partial' }, ...states.map((one) => ({ value: one, title: one })), ...(state.includes(',') && state !== 'failed,partial' ? [{ value: state, title: state.replaceAll(',', ' or ') }] : [])]}
      />
      <Field label="From" type="date" value={get('from')} onChange={(event) => set('from', event.target.value)} />
      <Field label="Up to" type="date" value={get('to')} onChange={(event) => set('to', event.target.value)} />
      <Button disabled={!onClear} onClick={onClear}>
        Clear filters
      </Button>
    </form>
  )
}

function RunRow({ first }: { first: Run }) {
  const run = useRun(first.id, first).data ?? first
  const seconds = run.started && run.ended ? (Date.parse(run.ended) - Date.parse(run.started)) / 1000 : -1
  const percent = percentOf(run)
  return (
    <tr className="h-8 border-b border-line hover:bg-panel">
      <td className="py-1 pr-4">
        <Link to={`/runs/${run.id}`} className="break-words text-plumage hover:underline">
          {run.type ? plain(nameOf(run)) : <Address address={nameOf(run)} />}
        </Link>
        {run.type && (
          <span className="block text-small text-soft">
            {run.routes.slice(0, 2).map((route, i) => (
              <Fragment key={route.from + route.to}>
                {i > 0 && ', '}
                <Address address={route.from} /> {run.type === 'two-way' ? '↔' : '→'} <Address address={route.to} />
              </Fragment>
            ))}
            {run.routes.length > 2 && ` and ${count(run.routes.length + (run.more_routes ?? 0) - 2)} more`}
          </span>
        )}
      </td>
      <td className="pr-4">
        <State state={run.state} />
      </td>
      <td className="hidden pl-4 lg:table-cell">
        {!run.ended && (
          <span className="flex items-center gap-2 whitespace-nowrap">
            <span className="block h-1.5 w-16 bg-line" aria-hidden="true">
              <span className="block h-full bg-plumage" style={{ width: `${percent}%` }} />
            </span>
            {run.watching ? 'in sync' : `${percent} %`}
          </span>
        )}
      </td>
      <td className="pl-4 text-right">{count(run.items.done)}</td>
      <td className={`pl-4 text-right ${run.items.failed ? 'text-brick' : ''}`}>{count(run.items.failed)}</td>
      <td className="hidden pl-4 text-right whitespace-nowrap sm:table-cell">{bytes(run.bytes.transferred)}</td>
      <td className="hidden pl-4 text-right whitespace-nowrap lg:table-cell">{seconds >= 0 ? duration(seconds) : ''}</td>
      <td className="hidden pl-4 text-right whitespace-nowrap lg:table-cell">{seconds >= 0 && run.average > 0 ? `${bytes(Math.round(run.average))}/s` : ''}</td>
      <td className="hidden pl-4 text-right whitespace-nowrap text-soft sm:table-cell">{when(run.started ?? run.created)}</td>
    </tr>
  )
}
