import { useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { serviceNow } from '../api/clock'
import { local } from '../ui/TimeField'
import { api, contentUrl, data, type Entry } from '../api/client'
import { filesLink, parent, steps } from '../files/address'
import { Empty, Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { bytes, count, plain, some, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'
import { RestoreDialog } from './RestoreDialog'
import { Versions } from './Versions'

const link = (address: string, at?: string) => `/history?${new URLSearchParams(at ? { of: address, at } : { of: address })}`

/** A folder or a file as it was at a time. */
export function HistoryPage() {
  const [search, setSearch] = useSearchParams()
  const address = search.get('of') ?? '/'
  const at = search.get('at') ?? undefined
  useEffect(() => {
    document.title = `History of ${address} · Deft Heron`
  }, [address])
  const past = useQuery({
    queryKey: ['history', address],
    queryFn: () => data(api.GET('/api/v1/history', { params: { query: { address, limit: 200 } } })),
    enabled: address !== '/',
    retry: false,
  })
  const show = (time: string | undefined) => setSearch(time ? { of: address, at: time } : { of: address }, { replace: true })
  if (address === '/') return <Empty>History is of one account, or of something in it. Open a folder in Files, and choose History.</Empty>
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-3 overflow-auto py-3">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-2">
        <Way address={address} at={at} />
        <span className="flex-1" />
        {at && (
          <Link to={`/compare?${new URLSearchParams({ here: address, here_at: at, there: address })}`} className="text-plumage hover:underline">
            Compare with now
          </Link>
        )}
        <Link to={filesLink(past.data?.kind === 'file' ? parent(address) : address)} className="text-plumage hover:underline">
          Open in Files
        </Link>
      </div>
      {past.isPending && <Skeleton rows={3} />}
      {past.isError && <Failed error={past.error} />}
      {past.data?.kind === 'file' && <Versions address={address} versions={past.data.versions} />}
      {past.data?.kind === 'folder' && (
        <>
          <Times changes={past.data.changes} at={at} onShow={show} />
          {at ? <Then address={address} at={at} /> : <p className="text-soft">Move the slider, or enter a time, to see what was here.</p>}
          <p className="text-small text-soft">
            The history of this account holds {some(past.data.held.versions, 'version')}, {bytes(past.data.held.bytes)}.
          </p>
        </>
      )}
    </div>
  )
}

function Way({ address, at }: { address: string; at?: string }) {
  const way = steps(address).slice(1)
  return (
    <nav aria-label="Path">
      <ol className="flex flex-wrap items-baseline gap-1">
        <li className="text-soft">History of</li>
        {way.map((step, i) => (
          <li key={step.address} className="flex items-baseline gap-1">
            <span className="text-soft">/</span>
            {i < way.length - 1 ? (
              <Link to={link(step.address, at)} className="text-plumage hover:underline">
                {plain(step.name)}
              </Link>
            ) : (
              <h1 className="font-semibold">{plain(step.name)}</h1>
            )}
          </li>
        ))}
      </ol>
    </nav>
  )
}

type Change = { first: string; last: string; changes: number; run?: string; job?: string }

/** The runs that changed something, as steps of a slider, the oldest left; just before each is a state to look at. */
function Times({ changes, at, onShow }: { changes: Change[]; at?: string; onShow: (at: string | undefined) => void }) {
  const marks = useMemo(() => [...changes].reverse(), [changes])
  if (marks.length === 0) return <p>Nothing here has been overwritten, deleted or moved by a run yet. History begins with the first change.</p>
  const before = (change: Change) => new Date(new Date(change.first).getTime() - 1).toISOString()
  const place = at ? marks.filter((change) => change.first <= at).length : marks.length
  const next = marks[place]
  return (
    <div className="grid gap-2 border-y border-line py-3">
      <label className="grid gap-1">
        <span className="text-small text-soft">Time</span>
        <input
          type="range"
          min={0}
          max={marks.length}
          value={place}
          aria-valuetext={at ? when(at) : 'now'}
          onChange={(event) => {
            const change = marks[Number(event.target.value)]
            onShow(change ? before(change) : undefined)
          }}
          className="w-full accent-plumage"
        />
      </label>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <label className="flex items-center gap-2">
          <span className="text-small text-soft">As it was at</span>
          <input
            type="datetime-local"
            step={1}
            value={at ? local(at) : ''}
            max={local(new Date(serviceNow()).toISOString())}
            onChange={(event) => event.target.value && onShow(new Date(event.target.value).toISOString())}
            className="h-8 rounded-md border border-line bg-ground px-2"
          />
        </label>
        {at && (
          <Button look="quiet" onClick={() => onShow(undefined)}>
            Now
          </Button>
        )}
        <span className="text-small text-soft" role="status">
          {next ? (
            <>
              before {next.job ? <>the job {plain(next.job)}</> : 'a run'} made {some(next.changes, 'change')} at {when(next.first)}
              {next.run && (
                <>
                  {' · '}
                  <Link to={`/runs/${next.run}`} className="text-plumage underline">
                    Show the run
                  </Link>
                </>
              )}
            </>
          ) : (
            `${some(marks.length, 'run')} changed something here, the last at ${when(marks[marks.length - 1]!.last)}`
          )}
        </span>
      </div>
    </div>
  )
}

type Row = { entry: Entry; since: 'folder' | 'same' | 'changed' | 'gone' | 'unknown' }

const usePages = (key: unknown[], query: { address: string; at?: string }) =>
  useInfiniteQuery({
    queryKey: key,
    queryFn: ({ pageParam }) => data(api.GET('/api/v1/tree', { params: { query: { ...query, limit: 1000, cursor: pageParam || undefined } } })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
    retry: false,
  })

const words = { folder: '', unknown: '', same: 'as now', changed: 'changed since', gone: 'not there now' }
const colours = { folder: '', unknown: '', same: 'text-soft', changed: 'text-ochre', gone: 'text-brick' }

/** What entries of a folder are in the order of. */
const orderOf = (entry: Entry) => (entry.kind === 'folder' ? `${entry.name}/` : entry.name)

/** What was in a folder then, and what has become of it. */
function Then({ address, at }: { address: string; at: string }) {
  const [restoring, setRestoring] = useState<{ address: string; file?: boolean }>()
  const then = usePages(['folder', address, 'at', at], { address, at })
  const now = usePages(['folder', address, 'now'], { address })
  const was = useMemo(() => then.data?.pages.flatMap((page) => page.entries) ?? [], [then.data])
  const is = useMemo(() => now.data?.pages.flatMap((page) => page.entries) ?? [], [now.data])
  // Both come in the order of names, page by page: what is there now is listed as far as what was.
  const [lastWas, lastIs] = [was[was.length - 1], is[is.length - 1]]
  const complete = now.isError || (now.isSuccess && !now.hasNextPage)
  const upTo = lastIs ? orderOf(lastIs) : ''
  const behind = !!now.hasNextPage && !!lastWas && upTo < orderOf(lastWas)
  const { isFetchingNextPage, fetchNextPage } = now
  useEffect(() => {
    if (behind && !isFetchingNextPage) void fetchNextPage()
  }, [behind, isFetchingNextPage, fetchNextPage])
  const rows = useMemo(() => {
    const there = new Map(is.map((entry) => [orderOf(entry), entry]))
    const rows: Row[] = was.map((entry) => {
      const found = there.get(orderOf(entry))
      if (!found) return { entry, since: complete || orderOf(entry) <= upTo ? 'gone' : 'unknown' }
      if (entry.kind === 'folder') return { entry, since: 'folder' }
      return { entry, since: found.revision === entry.revision ? 'same' : 'changed' }
    })
    return rows
  }, [was, is, complete, upTo])
  if (then.isPending) return <Skeleton rows={6} />
  if (then.isError) return <Failed error={then.error} />
  const differ = rows.filter((row) => row.since === 'gone' || row.since === 'changed').length
  return (
    <section aria-label="As it was" className="grid gap-2">
      <div className="flex flex-wrap items-center gap-3">
        <span role="status">
          {some(rows.length, 'entry')} {then.hasNextPage && 'so far '}at {when(at)}
          {differ > 0 && <span className="text-ochre">, {count(differ)} of them changed or gone since</span>}
        </span>
        <span className="flex-1" />
        <Button look="first" onClick={() => setRestoring({ address })}>
          Restore this folder…
        </Button>
      </div>
      <table className="w-full table-fixed">
        <thead>
          <tr className="text-left text-small text-soft">
            <th className="py-1 font-normal">Name</th>
            <th className="w-24 py-1 text-right font-normal">Size</th>
            <th className="hidden w-44 py-1 pl-4 font-normal sm:table-cell">Modified</th>
            <th className="hidden w-32 py-1 pl-4 font-normal sm:table-cell">Since then</th>
            <th className="w-48 py-1 pl-4 font-normal">
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map(({ entry, since }) => (
            <tr key={`${entry.kind} ${entry.name}`} className="h-8 border-t border-line">
              <td className="truncate">
                {entry.kind === 'folder' ? (
                  <Link to={link(entry.address, at)} className="text-plumage hover:underline">
                    {plain(entry.name)}/
                  </Link>
                ) : (
                  <Link to={link(entry.address)} className="hover:underline">
                    {plain(entry.name)}
                  </Link>
                )}
              </td>
              <td className="text-right">{entry.kind === 'folder' ? '' : bytes(entry.size)}</td>
              <td className="hidden pl-4 text-soft sm:table-cell">{entry.modified ? when(entry.modified) : ''}</td>
              <td className={`hidden pl-4 sm:table-cell ${colours[since]}`}>{words[since]}</td>
              <td className="pl-4 text-right whitespace-nowrap">
                {entry.kind === 'file' && (
                  <a href={contentUrl(entry.address, { at, download: '1' })} download className="mr-2 text-plumage hover:underline" aria-label={`Download ${plain(entry.name)}`}>
                    Download
                  </a>
                )}
                {since !== 'same' && since !== 'unknown' && (
                  <Button look="quiet" onClick={() => setRestoring({ address: entry.address, file: entry.kind === 'file' })} aria-label={`Restore ${plain(entry.name)}`}>
                    Restore…
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length === 0 && <p className="text-soft">This folder was empty.</p>}
      {then.hasNextPage && <Button onClick={() => void then.fetchNextPage()}>Show more</Button>}
      {restoring && <RestoreDialog address={restoring.address} file={restoring.file} at={at} onClose={() => setRestoring(undefined)} />}
    </section>
  )
}
