import { useInfiniteQuery, useMutation } from '@tanstack/react-query'
import { useSearchParams } from 'react-router'
import { api, data } from '../api/client'
import { Empty, Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { FilterField } from '../ui/FilterField'
import { plain, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'

/** Who did what. */
export function AuditPage() {
  const [params, setParams] = useSearchParams()
  const filter = { user: params.get('user') ?? '', action: params.get('action') ?? '', text: params.get('text') ?? '' }
  const set = (name: string, value: string) =>
    setParams(
      (before) => {
        if (value) before.set(name, value)
        else before.delete(name)
        return before
      },
      { replace: true },
    )
  const pages = useInfiniteQuery({
    queryKey: ['audit', filter],
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      data(
        api.GET('/api/v1/audit', {
          params: { query: { limit: 100, user: filter.user || undefined, action: filter.action || undefined, text: filter.text || undefined, cursor: pageParam || undefined } },
        }),
      ),
    getNextPageParam: (page) => page.next ?? undefined,
  })
  const verify = useMutation({ mutationFn: () => data(api.GET('/api/v1/audit/verification')) })
  const entries = pages.data?.pages.flatMap((page) => page.entries) ?? []
  return (
    <>
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-title font-semibold">Audit log</h1>
        <div className="flex flex-wrap gap-3">
          <Button onClick={() => verify.mutate()} disabled={verify.isPending}>
            Verify
          </Button>
          <a href="/api/v1/audit/export" download className="inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage">
            Export
          </a>
        </div>
      </div>
      <p className="max-w-3xl text-soft">Everything that changed something or read a file. Each entry is chained to the one before, so that an altered log shows.</p>
      {verify.data && (
        <p role="status" className={verify.data.whole ? 'text-reed' : 'text-brick'}>
          {verify.data.whole ? `Unaltered: ${verify.data.entries} entries, from number ${verify.data.first} to ${verify.data.last}.` : `Altered. ${verify.data.why} Compare it with a backup.`}
        </p>
      )}
      {verify.isError && <Failed error={verify.error} />}
      <div className="mt-2 grid max-w-3xl gap-3 sm:grid-cols-3">
        <FilterField label="User" value={filter.user} onChange={(value) => set('user', value)} />
        <FilterField label="Action" value={filter.action} onChange={(value) => set('action', value)} />
        <FilterField label="Address or outcome" value={filter.text} onChange={(value) => set('text', value)} />
      </div>
      {pages.isError && <Failed error={pages.error} />}
      {pages.isPending && <Skeleton rows={8} />}
      {pages.data && entries.length === 0 && <Empty>The log has no such entries.</Empty>}
      {entries.length > 0 && (
        <table className="mt-3 w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-4 font-normal">Time</th>
              <th className="py-1 pr-4 font-normal">User</th>
              <th className="py-1 pr-4 font-normal">Action</th>
              <th className="py-1 pr-4 font-normal">About</th>
              <th className="py-1 pr-4 font-normal">Outcome</th>
              <th className="hidden py-1 font-normal md:table-cell">From</th>
            </tr>
          </thead>
          <tbody>
            {entries.map((entry) => (
              <tr key={entry.seq} className="border-b border-line align-baseline">
                <td className="py-1 pr-4 text-small whitespace-nowrap">{when(entry.at)}</td>
                <td className="py-1 pr-4">
                  {entry.user || 'nobody'} <span className="text-small text-soft">{entry.kind}</span>
                </td>
                <td className="py-1 pr-4 text-small whitespace-nowrap">{entry.action}</td>
                <td className="py-1 pr-4 font-mono text-small break-all">{plain(entry.subject)}</td>
                <td className={`py-1 pr-4 text-small ${entry.outcome === 'done' ? 'text-reed' : 'text-brick'}`}>
                  {entry.outcome}
                  {entry.times > 1 && `, ${entry.times} times`}
                </td>
                <td className="hidden py-1 font-mono text-small md:table-cell">{entry.from}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {pages.hasNextPage && (
        <Button className="mt-3" disabled={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Show more
        </Button>
      )}
    </>
  )
}
