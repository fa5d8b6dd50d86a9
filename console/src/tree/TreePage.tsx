import { useInfiniteQuery } from '@tanstack/react-query'
import { RefreshCw } from 'lucide-react'
import { useEffect, useMemo, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { api, data, type Entry } from '../api/client'
import { Button } from '../ui/Button'
import { bytes, plain, some } from '../ui/format'
import { Empty, Failed } from '../ui/Notice'
import { steps, treeLink } from './address'
import { CopyDialog } from './CopyDialog'
import { Details } from './Details'
import { FolderTable } from './FolderTable'

export function TreePage() {
  const [search] = useSearchParams()
  const address = search.get('at') ?? '/'
  return <Folder key={address} address={address} />
}

function Folder({ address }: { address: string }) {
  const folder = useInfiniteQuery({
    queryKey: ['folder', address],
    queryFn: ({ pageParam }) => data(api.GET('/api/v1/tree', { params: { query: { address, limit: 1000, cursor: pageParam } } })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
  })
  const entries = useMemo(() => folder.data?.pages.flatMap((page) => page.entries) ?? [], [folder.data])
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set())
  const [copying, setCopying] = useState(false)
  useEffect(() => {
    document.title = `${address} · Deft Heron`
  }, [address])
  const picked = entries.filter((entry) => chosen.has(entry.address))
  const only = picked.length === 1 ? picked[0] : undefined
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3">
        <Way address={address} />
        <span className="flex-1" />
        <span className="text-small text-soft" role="status">
          {folder.isSuccess && <Sum entries={entries} picked={picked} more={folder.hasNextPage} root={address === '/'} />}
        </span>
        <Button onClick={() => void folder.refetch()} disabled={folder.isFetching}>
          <RefreshCw className="size-4" aria-hidden="true" />
          Refresh
        </Button>
        <Button look="first" disabled={picked.length === 0} onClick={() => setCopying(true)}>
          {picked.length > 1 ? `Copy ${picked.length} to…` : 'Copy to…'}
        </Button>
      </div>
      {folder.isError ? (
        <Failed error={folder.error}>
          <Button onClick={() => void folder.refetch()}>Try again</Button>
        </Failed>
      ) : folder.isSuccess && entries.length === 0 ? (
        <NothingHere root={address === '/'} />
      ) : (
        <div className="flex min-h-0 flex-1 gap-6">
          <FolderTable
            entries={entries}
            address={address}
            pending={folder.isPending}
            chosen={chosen}
            onChoose={setChosen}
            onNearEnd={() => folder.hasNextPage && !folder.isFetchingNextPage && void folder.fetchNextPage()}
          />
          {only && <Details entry={only} />}
        </div>
      )}
      {copying && <CopyDialog entries={picked} onClose={() => setCopying(false)} />}
    </>
  )
}

function Way({ address }: { address: string }) {
  const way = steps(address)
  return (
    <nav aria-label="Way to this folder">
      <ol className="flex flex-wrap items-baseline gap-1">
        {way.map((step, i) => (
          <li key={step.address} className="flex items-baseline gap-1">
            {i > 0 && <span className="text-soft">/</span>}
            {i < way.length - 1 ? (
              <Link to={treeLink(step.address)} className="text-plumage hover:underline">
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

function Sum({ entries, picked, more, root }: { entries: Entry[]; picked: Entry[]; more: boolean; root: boolean }) {
  if (root && picked.length === 0) return some(entries.length, 'account')
  const of = picked.length > 0 ? picked : entries
  const files = of.filter((entry) => entry.kind !== 'folder')
  const size = files.reduce((sum, entry) => sum + Math.max(0, entry.size), 0)
  return `${some(of.length - files.length, 'folder')}, ${some(files.length, 'file')}, ${bytes(size)}${picked.length > 0 ? ' chosen' : more ? ' so far' : ''}`
}

function NothingHere({ root }: { root: boolean }) {
  if (!root) return <Empty>This folder is empty.</Empty>
  return (
    <Empty
      action={
        <code className="block rounded-md border border-line bg-panel px-3 py-2 font-mono text-small text-ink">
          heron account link folder desk --path /srv/reports
        </code>
      }
    >
      Here all linked accounts stand as one tree. None is linked yet; link one in a terminal:
    </Empty>
  )
}
