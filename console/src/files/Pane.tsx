import { useInfiniteQuery } from '@tanstack/react-query'
import { useDeferredValue, useEffect, useMemo, useRef, useState } from 'react'
import { Link } from 'react-router'
import { api, data, type Entry } from '../api/client'
import { Button } from '../ui/Button'
import { bytes, plain, some } from '../ui/format'
import { Empty, Failed } from '../ui/Banner'
import { filesLink, parent, steps } from './address'
import { arranged, asListed, type Order } from './order'

/** A folder's entries, page after page; all of them where order, filter or marks need all. Without an address, none. */
export function useFolder(address: string | undefined, all: boolean) {
  const fresh = useRef(false)
  const [filter, setFilter] = useState('')
  const [order, setOrder] = useState<Order>(asListed)
  const wanted = useDeferredValue(filter)
  const folder = useInfiniteQuery({
    queryKey: ['folder', address],
    queryFn: ({ pageParam }) => data(api.GET('/api/v1/tree', { params: { query: { address: address ?? '/', limit: 1000, cursor: pageParam, fresh: fresh.current && !pageParam } } })),
    enabled: address !== undefined,
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
  })
  const entries = useMemo(() => folder.data?.pages.flatMap((page) => page.entries) ?? [], [folder.data])
  const shown = useMemo(() => arranged(entries, wanted, order), [entries, wanted, order])
  const needsAll = all || wanted !== '' || order !== asListed
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = folder
  useEffect(() => {
    if (needsAll && hasNextPage && !isFetchingNextPage) void fetchNextPage()
  }, [needsAll, hasNextPage, isFetchingNextPage, fetchNextPage])
  const refresh = () => {
    fresh.current = true
    void folder.refetch().finally(() => {
      fresh.current = false
    })
  }
  return { folder, entries, shown, wanted, filter, setFilter, order, setOrder, refresh }
}

/** The way to a folder, each step a link. */
export function Way({ address, linkOf, main }: { address: string; linkOf: (address: string) => string; main: boolean }) {
  const way = steps(address)
  return (
    <nav aria-label={main ? 'Path' : 'Path of the second pane'}>
      <ol className="flex flex-wrap items-baseline gap-1">
        {way.map((step, i) => (
          <li key={step.address} className="flex items-baseline gap-1">
            {i > 0 && <span className="text-soft">/</span>}
            {i < way.length - 1 ? (
              <Link to={linkOf(step.address)} className="text-plumage hover:underline">
                {plain(step.name)}
              </Link>
            ) : main ? (
              <h1 className="font-semibold">{plain(step.name)}</h1>
            ) : (
              <span className="font-semibold">{plain(step.name)}</span>
            )}
          </li>
        ))}
      </ol>
    </nav>
  )
}

export function Counted({ entries }: { entries: Entry[] }) {
  const folders = entries.filter((entry) => entry.kind === 'folder').length
  const documents = entries.filter((entry) => entry.kind === 'document').length
  const files = entries.length - folders - documents
  const size = entries.reduce((sum, entry) => sum + (entry.kind === 'folder' ? 0 : Math.max(0, entry.size)), 0)
  if (entries.length === 0) return <>empty</>
  const parts = [
    folders > 0 ? some(folders, 'folder') : '',
    documents > 0 ? some(documents, 'document') : '',
    files > 0 ? `${some(files, 'file')}, ${bytes(size)}` : '',
  ]
  return <>{parts.filter(Boolean).join(', ')}</>
}

/** What a folder that cannot be shown says: why, and the nearest one that exists. */
export function NotListed({ error, address, onRetry }: { error: unknown; address: string; onRetry: () => void }) {
  return (
    <Failed error={error}>
      <div className="flex flex-wrap items-center gap-3">
        <Button onClick={onRetry}>Try again</Button>
        <Nearest address={address} />
      </div>
    </Failed>
  )
}

/** The nearest folder above that exists. */
function Nearest({ address }: { address: string }) {
  const [at, setAt] = useState(parent(address))
  const [found, setFound] = useState(false)
  useEffect(() => {
    let left = false
    const look = async () => {
      for (let one = parent(address); ; one = parent(one)) {
        const there = one === '/' || (await api.GET('/api/v1/entry', { params: { query: { address: one } } }).then(() => true, () => false))
        if (left) return
        if (there) {
          setAt(one)
          setFound(true)
          return
        }
      }
    }
    void look()
    return () => {
      left = true
    }
  }, [address])
  if (!found) return null
  return (
    <Link to={filesLink(at)} className="text-plumage hover:underline">
      {at === '/' ? 'Open all accounts' : `Open ${plain(at)}, the nearest that exists`}
    </Link>
  )
}

export function NothingHere({ root }: { root: boolean }) {
  if (!root) return <Empty>This folder is empty. Drop files here, or upload some.</Empty>
  return (
    <Empty
      action={
        <Link to="/accounts/link" className="text-plumage hover:underline">
          Link an account
        </Link>
      }
    >
      Files shows all linked accounts as one tree. No account is linked yet.
    </Empty>
  )
}
