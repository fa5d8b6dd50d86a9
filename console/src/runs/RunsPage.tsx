import { useInfiniteQuery } from '@tanstack/react-query'
import { useEffect } from 'react'
import { Link } from 'react-router'
import { api, data, type Run } from '../api/client'
import { Button } from '../ui/Button'
import { bytes, count, plain, when } from '../ui/format'
import { Empty, Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { useRun } from './queries'

export function RunsPage() {
  const runs = useInfiniteQuery({
    queryKey: ['runs', 'all'],
    queryFn: ({ pageParam }) => data(api.GET('/api/v1/runs', { params: { query: { limit: 100, cursor: pageParam } } })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
  })
  useEffect(() => {
    document.title = 'Runs · Deft Heron'
  }, [])
  const all = runs.data?.pages.flatMap((page) => page.runs) ?? []
  return (
    <div className="relative min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="py-3 text-title font-semibold">Runs</h1>
      {runs.isError && <Failed error={runs.error} />}
      {runs.isSuccess && all.length === 0 && (
        <Empty action={<Link to="/tree" className="text-plumage hover:underline">Choose something in the tree</Link>}>
          Here every copy stands, with how far it has come and what came of it. Nothing has run yet.
        </Empty>
      )}
      {all.length > 0 && (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 font-normal">From and to</th>
              <th className="py-1 font-normal">State</th>
              <th className="py-1 pl-4 text-right font-normal">Done</th>
              <th className="py-1 pl-4 text-right font-normal">Failed</th>
              <th className="py-1 pl-4 text-right font-normal">Moved</th>
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
      {runs.hasNextPage && (
        <Button className="mt-3" onClick={() => void runs.fetchNextPage()}>
          Older runs
        </Button>
      )}
    </div>
  )
}

function RunRow({ first }: { first: Run }) {
  const run = useRun(first.id, first).data ?? first
  return (
    <tr className="h-8 border-b border-line hover:bg-panel">
      <td className="py-1 pr-4">
        <Link to={`/runs/${run.id}`} className="font-mono text-small break-all text-plumage hover:underline">
          {run.routes.map((route) => `${plain(route.from)} ${run.type === 'two-way' ? '↔' : '→'} ${plain(route.to)}`).join(', ')}
        </Link>
      </td>
      <td className="pr-4">
        <State state={run.state} />
      </td>
      <td className="pl-4 text-right">{count(run.items.done)}</td>
      <td className={`pl-4 text-right ${run.items.failed ? 'text-brick' : ''}`}>{count(run.items.failed)}</td>
      <td className="pl-4 text-right whitespace-nowrap">{bytes(run.bytes.transferred)}</td>
      <td className="hidden pl-4 text-right whitespace-nowrap text-soft sm:table-cell">{when(run.started)}</td>
    </tr>
  )
}
