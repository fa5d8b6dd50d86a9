import { Columns2, FolderPlus, History, LayoutGrid, List, PanelLeft, RefreshCw, Upload as UploadIcon } from 'lucide-react'
import { useEffect, useMemo, useRef, useState } from 'react'
import { useLocation, useNavigate, useSearchParams } from 'react-router'
import type { Entry } from '../api/client'
import { download } from '../transfers/download'
import { dropped, sendingsOf, useUploads } from '../transfers/uploads'
import { Button } from '../ui/Button'
import { Divider } from '../ui/Divider'
import { plain, some, when } from '../ui/format'
import { Menu, MenuItem } from '../ui/Menu'
import { Empty } from '../ui/Banner'
import { addressOf, filesLink, parent } from './address'
import { type Carried, useClipboard, useDrop } from './clipboard'
import { CopyDialog } from './CopyDialog'
import { Details } from './Details'
import { NotesDialog } from './Notes'
import { MoveDialog, NewFolderDialog, RemoveDialog } from './dialogs'
import { FolderTable, type TableActions, type View } from './FolderTable'
import { FolderTree } from './FolderTree'
import { LookDialog } from './LookDialog'
import { type Mark, marksOf } from './marks'
import { Counted, NotListed, NothingHere, useFolder, Way } from './Pane'
import { usePicks } from './picks'
import { Bring, SecondPane } from './SecondPane'
import { Changing, useMayChange } from '../ui/may'

/** A setting of this browser: how the page was left. */
function useRemembered<T extends string | number>(key: string, usual: T): [T, (value: T) => void] {
  const [value, setValue] = useState<T>(() => {
    const kept = localStorage.getItem(key)
    return kept === null ? usual : ((typeof usual === 'number' ? Number(kept) || usual : kept) as T)
  })
  return [
    value,
    (next) => {
      localStorage.setItem(key, String(next))
      setValue(next)
    },
  ]
}

/** The tree of all accounts, a folder of it, and a second one beside it. */
export function FilesPage() {
  const [search] = useSearchParams()
  const navigate = useNavigate()
  const address = addressOf(useLocation().pathname, search) ?? '/'
  const second = search.get('second') ?? undefined
  const [width, setWidth] = useRemembered<number>('heron-tree-width', 260)
  const [tree, setTree] = useRemembered<string>('heron-tree-shown', 'yes')
  const [doing, setDoing] = useState<{ carried: Carried; into: string }>()
  const { carry } = useClipboard()
  const withSecond = (link: string, other = second) => {
    const [path = '', query] = link.split('?')
    const params = new URLSearchParams(query)
    if (other !== undefined) params.set('second', other)
    const text = params.toString()
    return text ? `${path}?${text}` : path
  }
  const drop = (carried: Carried, into: string) => setDoing({ carried, into })
  const close = () => {
    if (doing?.carried.move) carry(undefined)
    setDoing(undefined)
  }
  return (
    <div className="flex min-h-0 flex-1">
      {tree === 'yes' && (
        <>
          <nav aria-label="Tree" className="hidden shrink-0 flex-col py-3 md:flex" style={{ width }}>
            <FolderTree label="Folders of all accounts" current={address} onChoose={(to) => void navigate(withSecond(filesLink(to)))} onDrop={drop} remember="heron-tree" />
          </nav>
          <Divider label="Width of the tree" value={width} least={160} most={520} onChange={setWidth} />
        </>
      )}
      <Folder
        key={address}
        address={address}
        second={second}
        linkOf={(to) => withSecond(filesLink(to))}
        secondLinkOf={(to) => withSecond(filesLink(address), to)}
        onSecond={(to) => void navigate(to === undefined ? filesLink(address) : withSecond(filesLink(address), to), { replace: true })}
        onTree={() => setTree(tree === 'yes' ? 'no' : 'yes')}
        onDrop={drop}
      />
      {doing && !doing.carried.move && <CopyDialog entries={doing.carried.entries} into={doing.into} onClose={close} />}
      {doing?.carried.move && <MoveDialog entries={doing.carried.entries} into={doing.into} onClose={close} />}
    </div>
  )
}

type Open = 'copy' | 'move' | 'remove' | 'folder' | 'notes'

type FolderProps = {
  address: string
  second?: string
  linkOf: (address: string) => string
  secondLinkOf: (address: string) => string
  onSecond: (address: string | undefined) => void
  onTree: () => void
  onDrop: (carried: Carried, into: string) => void
}

function Folder({ address, second, linkOf, secondLinkOf, onSecond, onTree, onDrop }: FolderProps) {
  const navigate = useNavigate()
  const list = useFolder(address, second !== undefined)
  const other = useFolder(second, second !== undefined)
  const { folder, entries, shown, wanted, filter, setFilter, order, setOrder, refresh } = list
  const picks = usePicks()
  const uploads = useUploads()
  const { carried, carry } = useClipboard()
  const [open, setOpen] = useState<Open>()
  const [looking, setLooking] = useState<Entry>()
  const [over, setOver] = useState(false)
  const [renaming, setRenaming] = useState<string>()
  const [view, setView] = useRemembered<View>('heron-files-view', 'list')
  const drop = useDrop(address, onDrop)
  // Nothing is marked before both folders are listed to their ends.
  const complete = [folder, other.folder].every((one) => one.isSuccess && !one.hasNextPage)
  const marks = useMemo(() => {
    if (second === undefined) return undefined
    if (!complete) return { here: new Map<string, Mark>(), there: new Map<string, Mark>() }
    return { here: marksOf(entries, other.entries), there: marksOf(other.entries, entries) }
  }, [second, complete, entries, other.entries])
  useEffect(() => {
    document.title = `${address} · Deft Heron`
  }, [address])

  const picked = [...picks.picked.values()]
  const only = picked.length === 1 && entries.some((entry) => entry.address === picked[0]!.address) ? picked[0] : undefined
  const renamable = picked.length === 1 && parent(picked[0]!.address) !== '/' && [...entries, ...other.entries].some((entry) => entry.address === picked[0]!.address) ? picked[0] : undefined
  const root = address === '/'
  const files = shown.filter((entry) => entry.kind === 'file')
  const step = (by: number) => {
    const at = files.findIndex((entry) => entry.address === looking?.address)
    const next = files[at + by]
    if (next) setLooking(next)
  }
  const listed = folder.data?.pages[0]?.listed
  const actions: TableActions = {
    copyTo: () => picked.length > 0 && setOpen('copy'),
    moveTo: () => picked.length > 0 && setOpen('move'),
    rename: (entry = renamable) => entry && parent(entry.address) !== '/' && setRenaming(entry.address),
    remove: () => picked.length > 0 && setOpen('remove'),
    download: () => download(picked),
    note: () => picked.length > 0 && setOpen('notes'),
    carry: (some, move) => carry({ entries: some, move }),
    paste: (into) => carried && into !== '/' && onDrop(carried, into),
    canPaste: carried !== undefined,
  }
  const fresh = marks ? entries.filter((entry) => marks.here.get(entry.name) === 'only here' || marks.here.get(entry.name) === 'differs') : []
  return (
    <div
      className={`flex min-h-0 min-w-0 flex-1 flex-col md:pl-4 ${drop.over ? 'outline-2 outline-plumage' : ''}`}
      onDragOver={(event) => {
        drop.props.onDragOver(event)
        if (root || !event.dataTransfer.types.includes('Files')) return
        event.preventDefault()
        setOver(true)
      }}
      onDragLeave={() => {
        drop.props.onDragLeave()
        setOver(false)
      }}
      onDrop={(event) => {
        drop.props.onDrop(event)
        setOver(false)
        if (root || !event.dataTransfer.types.includes('Files')) return
        event.preventDefault()
        void dropped(address, event.dataTransfer.items).then(uploads.send)
      }}
    >
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 pt-3">
        <button type="button" onClick={onTree} aria-label="Show or hide the tree" title="Show or hide the tree" className="hidden size-8 items-center justify-center rounded-md text-soft hover:text-ink md:inline-flex">
          <PanelLeft className="size-4" aria-hidden="true" />
        </button>
        <Way address={address} linkOf={linkOf} main />
        <span className="flex-1" />
        <span className="text-small text-soft" role="status">
          {over ? 'Drop to upload to this folder' : folder.isSuccess && <Sum entries={shown} all={entries.length} more={folder.hasNextPage} root={root} />}
        </span>
        <Button onClick={() => setView(view === 'grid' ? 'list' : 'grid')} title="Show the folder as a list or as a grid of previews">
          {view === 'grid' ? <List className="size-4" aria-hidden="true" /> : <LayoutGrid className="size-4" aria-hidden="true" />}
          {view === 'grid' ? 'List' : 'Grid'}
        </Button>
        <Button onClick={() => onSecond(second === undefined ? address : undefined)} aria-pressed={second !== undefined} title="Show a second folder beside this one">
          <Columns2 className="size-4" aria-hidden="true" />
          Two panes
        </Button>
        {!root && (
          <Button onClick={() => void navigate(`/history?${new URLSearchParams({ of: address })}`)} title="See what was in this folder at an earlier time">
            <History className="size-4" aria-hidden="true" />
            History
          </Button>
        )}
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
        {carried && !root && (
          <Button onClick={() => actions.paste(address)}>
            Paste {carried.entries.length === 1 ? plain(carried.entries[0]!.name) : some(carried.entries.length, 'entry')}
          </Button>
        )}
      </div>
      <div className="flex min-h-8 flex-wrap items-center gap-2 pb-2">
        <Chosen entries={entries} />
        <span className="flex-1" />
        <Actions picked={picked} onOpen={setOpen} onRename={renamable ? () => actions.rename() : undefined} />
      </div>
      <div className="flex min-h-0 flex-1 gap-4">
        <section aria-label="Listing" className="flex min-h-0 min-w-0 flex-1 flex-col">
          {marks && second !== address && (
            <div className="flex min-h-20 flex-wrap content-start items-center justify-between gap-2 pb-2">
              <span className="text-small text-soft">
                <Counted entries={shown} />
              </span>
              <Bring entries={fresh} to={second!} from={address} side="right" onBring={() => onDrop({ entries: fresh, move: false }, second!)} />
            </div>
          )}
          {folder.isError ? (
            <NotListed error={folder.error} address={address} onRetry={refresh} />
          ) : folder.isSuccess && entries.length === 0 ? (
            <NothingHere root={root} />
          ) : folder.isSuccess && shown.length === 0 && !folder.hasNextPage ? (
            <Empty>Nothing here has “{wanted}” in its name.</Empty>
          ) : (
            <FolderTable
              entries={shown}
              address={address}
              pending={folder.isPending}
              order={order}
              onOrder={setOrder}
              onLook={setLooking}
              onNearEnd={() => folder.hasNextPage && !folder.isFetchingNextPage && void folder.fetchNextPage()}
              linkOf={linkOf}
              marks={second === address ? undefined : marks?.here}
              view={view}
              renaming={renaming}
              onRenamed={() => setRenaming(undefined)}
              actions={actions}
              onDrop={onDrop}
            />
          )}
        </section>
        {second !== undefined && marks && (
          <SecondPane
            address={second}
            other={address}
            list={other}
            marks={second === address ? new Map() : marks.there}
            linkOf={secondLinkOf}
            actions={actions}
            onBring={(some, into) => onDrop({ entries: some, move: false }, into)}
            onClose={() => onSecond(undefined)}
            onLook={setLooking}
            onDrop={onDrop}
            view={view}
            renaming={renaming}
            onRenamed={() => setRenaming(undefined)}
          />
        )}
        {only && second === undefined && <Details entry={only} onLook={() => setLooking(only)} />}
      </div>
      {open === 'copy' && <CopyDialog entries={picked} onClose={() => setOpen(undefined)} />}
      {open === 'move' && <MoveDialog entries={picked} onClose={() => setOpen(undefined)} />}
      {open === 'remove' && <RemoveDialog entries={picked} onClose={() => setOpen(undefined)} />}
      {open === 'notes' && <NotesDialog entries={picked} onClose={() => setOpen(undefined)} />}
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
    <Changing>
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
    </Changing>
  )
}

/** How much is selected, here and in other folders. */
function Chosen({ entries }: { entries: Entry[] }) {
  const { picked, clear } = usePicks()
  if (picked.size === 0) return <span className="text-small text-soft">Nothing is selected.</span>
  const here = new Set(entries.map((entry) => entry.address))
  const elsewhere = [...picked.keys()].filter((address) => !here.has(address)).length
  return (
    <span className="flex items-center gap-1 text-small" role="status">
      <Counted entries={[...picked.values()]} /> selected
      {elsewhere > 0 && <span className="text-dusk">, {elsewhere} of them in other folders</span>}
      <Button look="quiet" onClick={clear}>
        Clear
      </Button>
    </span>
  )
}

function Actions({ picked, onOpen, onRename }: { picked: Entry[]; onOpen: (what: Open) => void; onRename?: () => void }) {
  const navigate = useNavigate()
  const may = useMayChange()
  const none = picked.length === 0
  const inAccounts = picked.every((entry) => parent(entry.address) !== '/')
  const [first, second] = picked
  return (
    <>
      <Button disabled={none} onClick={() => download(picked)}>
        Download
      </Button>
      <Changing>
        <Button disabled={none || !inAccounts} onClick={() => onOpen('move')}>
          Move to…
        </Button>
      </Changing>
      <Menu label="More" boxed>
        <MenuItem disabled={!onRename || !may} onSelect={() => onRename?.()}>
          Rename
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
        <MenuItem disabled={none || !inAccounts || !may} onSelect={() => onOpen('remove')}>
          Delete…
        </MenuItem>
      </Menu>
      <Changing>
        <Button look="first" disabled={none} onClick={() => onOpen('copy')}>
          {picked.length > 1 ? `Copy ${picked.length} to…` : 'Copy to…'}
        </Button>
      </Changing>
    </>
  )
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
