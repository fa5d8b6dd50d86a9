import { useInfiniteQuery } from '@tanstack/react-query'
import { FolderPlus, RefreshCw, Upload as UploadIcon } from 'lucide-react'
import { useDeferredValue, useEffect, useMemo, useRef, useState } from 'react'
import { Link, useLocation, useNavigate, useSearchParams } from 'react-router'
import { api, data, type Entry } from '../api/client'
import { download } from '../transfers/download'
import { dropped, sendingsOf, useUploads } from '../transfers/uploads'
import { Button } from '../ui/Button'
import { bytes, plain, some, when } from '../ui/format'
import { Menu, MenuItem } from '../ui/Menu'
import { Empty, Failed } from '../ui/Banner'
import { addressOf, filesLink, parent, steps } from './address'
import { CopyDialog } from './CopyDialog'
import { Details } from './Details'
import { MoveDialog, NewFolderDialog, RemoveDialog, RenameDialog } from './dialogs'
import { FolderTable } from './FolderTable'
import { LookDialog } from './LookDialog'
import { arranged, asListed, type Order } from './order'
import { usePicks } from './picks'

export function FilesPage() {
  const [search] = useSearchParams()
  const address = addressOf(useLocation().pathname, search) ?? '/'
  return <Folder key={address} address={address} />
}

/** A folder's entries, page after page; all of them where order or filter need all. */
function useFolder(address: string) {
  const fresh = useRef(false)
  const folder = useInfiniteQuery({
    queryKey: ['folder', address],
    queryFn: ({ pageParam }) => data(api.GET('/api/v1/tree', { params: { query: { address, limit: 1000, cursor: pageParam, fresh: fresh.current && !pageParam } } })),
    initialPageParam: '',
    getNextPageParam: (page) => page.next || undefined,
  })
  const refresh = () => {
    fresh.current = true
    void folder.refetch().finally(() => {
      fresh.current = false
    })
  }
  const entries = useMemo(() => folder.data?.pages.flatMap((page) => page.entries) ?? [], [folder.data])
  return { folder, entries, refresh }
}

type Open = 'copy' | 'move' | 'rename' | 'remove' | 'folder'

function Folder({ address }: { address: string }) {
  const { folder, entries, refresh } = useFolder(address)
  const picks = usePicks()
  const uploads = useUploads()
  const [open, setOpen] = useState<Open>()
  const [looking, setLooking] = useState<Entry>()
  const [filter, setFilter] = useState('')
  const [order, setOrder] = useState<Order>(asListed)
  const [over, setOver] = useState(false)
  const wanted = useDeferredValue(filter)
  const shown = useMemo(() => arranged(entries, wanted, order), [entries, wanted, order])
  const needsAll = wanted !== '' || order !== asListed
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = folder
  useEffect(() => {
    if (needsAll && hasNextPage && !isFetchingNextPage) void fetchNextPage()
  }, [needsAll, hasNextPage, isFetchingNextPage, fetchNextPage])
  useEffect(() => {
    document.title = `${address} · Deft Heron`
  }, [address])

  const picked = [...picks.picked.values()]
  const only = picked.length === 1 && entries.some((entry) => entry.address === picked[0]!.address) ? picked[0] : undefined
  const root = address === '/'
  const files = shown.filter((entry) => entry.kind === 'file')
  const step = (by: number) => {
    const at = files.findIndex((entry) => entry.address === looking?.address)
    const next = files[at + by]
    if (next) setLooking(next)
  }
  const listed = folder.data?.pages[0]?.listed
  return (
    <div
      className="flex min-h-0 flex-1 flex-col"
      onDragOver={(event) => {
        if (root || !event.dataTransfer.types.includes('Files')) return
        event.preventDefault()
        setOver(true)
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        setOver(false)
        if (root) return
        event.preventDefault()
        void dropped(address, event.dataTransfer.items).then(uploads.send)
      }}
    >
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pt-3">
        <Way address={address} />
        <span className="flex-1" />
        <span className="text-small text-soft" role="status">
          {over ? 'Drop to upload to this folder' : folder.isSuccess && <Sum entries={shown} all={entries.length} more={hasNextPage} root={root} />}
        </span>
        <Button onClick={refresh} disabled={folder.isFetching} title={listed ? `As of ${when(listed)}` : undefined}>
          <RefreshCw className="size-4" aria-hidden="true" />
          Refresh
        </Button>
      </div>
      <div className="flex flex-wrap items-center gap-2 py-2">
        <input
          type="search"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
          placeholder="Filter by name"
          aria-label="Filter by name"
          className="h-8 w-52 rounded-md border border-line bg-panel px-3 placeholder:text-soft"
        />
        {!root && <Bringing address={address} onFolder={() => setOpen('folder')} />}
        <span className="flex-1" />
        <Chosen entries={entries} />
        <Actions picked={picked} onOpen={setOpen} />
      </div>
      {folder.isError ? (
        <Failed error={folder.error}>
          <Button onClick={refresh}>Try again</Button>
        </Failed>
      ) : folder.isSuccess && entries.length === 0 ? (
        <NothingHere root={root} />
      ) : folder.isSuccess && shown.length === 0 && !hasNextPage ? (
        <Empty>Nothing here has “{wanted}” in its name.</Empty>
      ) : (
        <div className="flex min-h-0 flex-1 gap-6">
          <FolderTable
            entries={shown}
            address={address}
            pending={folder.isPending}
            order={order}
            onOrder={setOrder}
            onLook={setLooking}
            onRemove={() => picked.length > 0 && setOpen('remove')}
            onNearEnd={() => folder.hasNextPage && !folder.isFetchingNextPage && void folder.fetchNextPage()}
          />
          {only && <Details entry={only} onLook={() => setLooking(only)} />}
        </div>
      )}
      {open === 'copy' && <CopyDialog entries={picked} onClose={() => setOpen(undefined)} />}
      {open === 'move' && <MoveDialog entries={picked} onClose={() => setOpen(undefined)} />}
      {open === 'rename' && picked[0] && <RenameDialog entry={picked[0]} onClose={() => setOpen(undefined)} />}
      {open === 'remove' && <RemoveDialog entries={picked} onClose={() => setOpen(undefined)} />}
      {open === 'folder' && <NewFolderDialog address={address} onClose={() => setOpen(undefined)} />}
      {looking && <LookDialog entry={looking} onClose={() => setLooking(undefined)} onStep={step} />}
    </div>
  )
}

/** What brings something new into this folder. */
function Bringing({ address, onFolder }: { address: string; onFolder: () => void }) {
  const { send } = useUploads()
  const files = useRef<HTMLInputElement>(null)
  const folders = useRef<HTMLInputElement>(null)
  const onChange = (event: React.ChangeEvent<HTMLInputElement>) => {
    send(sendingsOf(address, event.target.files ?? []))
    event.target.value = ''
  }
  return (
    <>
      <Button onClick={onFolder}>
        <FolderPlus className="size-4" aria-hidden="true" />
        New folder
      </Button>
      <Button onClick={() => files.current?.click()}>
        <UploadIcon className="size-4" aria-hidden="true" />
        Upload files
      </Button>
      <Button onClick={() => folders.current?.click()}>Upload folder</Button>
      <input ref={files} type="file" multiple hidden onChange={onChange} aria-label="Files to upload" />
      <input ref={folders} type="file" multiple hidden onChange={onChange} aria-label="Folder to upload" {...{ webkitdirectory: '' }} />
    </>
  )
}

/** How much is chosen, here and in other folders. */
function Chosen({ entries }: { entries: Entry[] }) {
  const { picked, clear } = usePicks()
  if (picked.size === 0) return null
  const here = new Set(entries.map((entry) => entry.address))
  const elsewhere = [...picked.keys()].filter((address) => !here.has(address)).length
  return (
    <span className="flex items-center gap-1 text-small" role="status">
      <Counted entries={[...picked.values()]} /> chosen
      {elsewhere > 0 && <span className="text-dusk">, {elsewhere} of them in other folders</span>}
      <Button look="quiet" onClick={clear}>
        Clear
      </Button>
    </span>
  )
}

function Actions({ picked, onOpen }: { picked: Entry[]; onOpen: (what: Open) => void }) {
  const navigate = useNavigate()
  const none = picked.length === 0
  const inAccounts = picked.every((entry) => parent(entry.address) !== '/')
  const [first, second] = picked
  return (
    <>
      <Button disabled={none} onClick={() => download(picked)}>
        Download
      </Button>
      <Button disabled={none || !inAccounts} onClick={() => onOpen('move')}>
        Move to…
      </Button>
      <Menu label="More" boxed>
        <MenuItem disabled={picked.length !== 1 || !inAccounts} onSelect={() => onOpen('rename')}>
          Rename…
        </MenuItem>
        <MenuItem
          disabled={none || picked.length > 2}
          onSelect={() => navigate(`/compare?${new URLSearchParams({ here: first!.address, ...(second ? { there: second.address } : {}) })}`)}
        >
          {picked.length === 2 ? 'Compare' : 'Compare with…'}
        </MenuItem>
        <MenuItem disabled={picked.length !== 1 || first!.kind !== 'folder'} onSelect={() => navigate(`/survey?${new URLSearchParams({ of: first!.address })}`)}>
          Survey…
        </MenuItem>
        <MenuItem disabled={none || !inAccounts} onSelect={() => onOpen('remove')}>
          Remove…
        </MenuItem>
      </Menu>
      <Button look="first" disabled={none} onClick={() => onOpen('copy')}>
        {picked.length > 1 ? `Copy ${picked.length} to…` : 'Copy to…'}
      </Button>
    </>
  )
}

function Way({ address }: { address: string }) {
  const way = steps(address)
  return (
    <nav aria-label="Path">
      <ol className="flex flex-wrap items-baseline gap-1">
        {way.map((step, i) => (
          <li key={step.address} className="flex items-baseline gap-1">
            {i > 0 && <span className="text-soft">/</span>}
            {i < way.length - 1 ? (
              <Link to={filesLink(step.address)} className="text-plumage hover:underline">
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

function Counted({ entries }: { entries: Entry[] }) {
  const folders = entries.filter((entry) => entry.kind === 'folder').length
  const documents = entries.filter((entry) => entry.kind === 'document').length
  const files = entries.length - folders - documents
  const size = entries.reduce((sum, entry) => sum + (entry.kind === 'folder' ? 0 : Math.max(0, entry.size)), 0)
  const parts = [
    folders > 0 || entries.length === 0 ? some(folders, 'folder') : '',
    documents > 0 ? some(documents, 'document') : '',
    files > 0 ? `${some(files, 'file')}, ${bytes(size)}` : '',
  ]
  return <>{parts.filter(Boolean).join(', ')}</>
}

function Sum({ entries, all, more, root }: { entries: Entry[]; all: number; more: boolean; root: boolean }) {
  if (root) return some(entries.length, 'account')
  return (
    <>
      <Counted entries={entries} />
      {entries.length !== all && ` of ${some(all, 'entry')}`}
      {more && ' so far'}
    </>
  )
}

function NothingHere({ root }: { root: boolean }) {
  if (!root) return <Empty>This folder is empty. Drop files here, or upload some.</Empty>
  return (
    <Empty
      action={
        <Link to="/accounts/link" className="text-plumage hover:underline">
          Link an account
        </Link>
      }
    >
      Here all linked accounts stand as one tree. None is linked yet.
    </Empty>
  )
}
