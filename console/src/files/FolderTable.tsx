import { useVirtualizer } from '@tanstack/react-virtual'
import { ArrowDown, ArrowUp, File, FileText, Folder, HardDrive, Link2 } from 'lucide-react'
import { memo, type RefObject, useEffect, useMemo, useRef, useState } from 'react'
import { Link, useNavigate } from 'react-router'
import type { Entry } from '../api/client'
import { Checkbox, RowCheckbox } from '../ui/Checkbox'
import { bytes, plain, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'
import { State } from '../ui/State'
import { parent } from './address'
import { type Carried, entriesType, useClipboard, useDrop } from './clipboard'
import type { Mark } from './marks'
import { NoteMarks } from './Notes'
import { asListed, type Column, type Order } from './order'
import { usePicks } from './picks'
import { Picture } from './Picture'
import { Rename } from './Rename'
import { RowMenu } from './RowMenu'

/** What can be done with the entries that are selected, or in the folder. */
export type TableActions = {
  copyTo: () => void
  moveTo: () => void
  /** Of an entry, or of the one that is selected. */
  rename: (entry?: Entry) => void
  remove: () => void
  download: () => void
  /** Tags, comments and locks. */
  note: () => void
  carry: (entries: Entry[], move: boolean) => void
  paste: (into: string) => void
  canPaste: boolean
}

type Props = {
  entries: Entry[]
  address: string
  pending: boolean
  order: Order
  onOrder: (order: Order) => void
  onLook: (entry: Entry) => void
  onNearEnd: () => void
  linkOf: (address: string) => string
  marks?: Map<string, Mark>
  actions: TableActions
  onDrop: (carried: Carried, into: string) => void
  id?: string
  view: View
  /** The address of the entry whose name is a field. */
  renaming?: string
  onRenamed: () => void
}

export type View = 'list' | 'grid'

const rowHeight = 32
const tile = { width: 160, height: 176 }
const columns = 'grid grid-cols-[28px_minmax(0,1fr)_100px] @xl:grid-cols-[28px_minmax(0,1fr)_110px_180px] items-center gap-x-3'

/** A folder as rows, of which only those in sight are in the page. */
export function FolderTable({ entries, address, pending, order, onOrder, onLook, onNearEnd, linkOf, marks, actions, onDrop, id = 'row', view, renaming, onRenamed }: Props) {
  const navigate = useNavigate()
  const { picked, pick, only, clear } = usePicks()
  const { drag, carried } = useClipboard()
  const box = useRef<HTMLDivElement>(null)
  const [current, setCurrent] = useState(0)
  const [anchor, setAnchor] = useState(0)
  const across = useAcross(box, view)
  const height = view === 'grid' ? tile.height : rowHeight
  const scrollTo = useRef<(index: number) => void>(() => {})
  const choose = (index: number, on: boolean, range: boolean) => {
    const [from, to] = range ? [Math.min(anchor, index), Math.max(anchor, index)] : [index, index]
    setAnchor(index)
    pick(entries.slice(from, to + 1), on)
  }
  const move = (to: number) => {
    const index = Math.max(0, Math.min(entries.length - 1, to))
    setCurrent(index)
    scrollTo.current(index)
  }
  const onKeyDown = (event: React.KeyboardEvent) => {
    const entry = entries[current]
    const page = across * Math.max(1, Math.floor((box.current?.clientHeight ?? height) / height) - 2)
    const moves: Record<string, number> = {
      ...(view === 'grid' ? { ArrowRight: current + 1, ArrowLeft: current - 1 } : {}),
      ArrowDown: current + across, ArrowUp: current - across, PageDown: current + page, PageUp: current - page, Home: 0, End: entries.length - 1,
    }
    if (event.key in moves) {
      move(moves[event.key]!)
      if (event.shiftKey && entry) choose(moves[event.key]!, true, true)
    } else if (event.key === ' ' && entry) choose(current, !picked.has(entry.address), event.shiftKey)
    else if (event.key === 'Enter' && entry) {
      if (entry.kind === 'folder') void navigate(linkOf(entry.address))
      else if (entry.kind === 'file') onLook(entry)
    } else if (event.key === 'Backspace' && address !== '/') void navigate(linkOf(parent(address)))
    else if (event.key === 'a' && (event.ctrlKey || event.metaKey)) pick(entries, true)
    else if (event.key === 'Escape') clear()
    else if (event.key === 'Delete') actions.remove()
    else if (event.key === 'F2' && entry) actions.rename(entry)
    else if ((event.ctrlKey || event.metaKey) && (event.key === 'c' || event.key === 'x')) {
      const chosen = entries.filter((one) => picked.has(one.address))
      const carried = chosen.length > 0 ? chosen : entry ? [entry] : []
      if (carried.length > 0) actions.carry(carried, event.key === 'x')
    } else if ((event.ctrlKey || event.metaKey) && event.key === 'v') actions.paste(address)
    else return
    event.preventDefault()
  }
  // A row that is dragged, or whose menu opens, takes the whole selection along if it is part of it.
  const taken = (entry: Entry) => {
    if (picked.has(entry.address)) return entries.filter((one) => picked.has(one.address))
    only([entry])
    return [entry]
  }
  const chosen = useMemo(() => (picked.size === 0 ? 0 : entries.reduce((n, entry) => n + (picked.has(entry.address) ? 1 : 0), 0)), [entries, picked])
  // The rows get one object that stays, so that those in sight are not drawn again while others come.
  const acts = useRef<RowActs>(null!)
  acts.current = {
    onRenamed: () => {
      onRenamed()
      box.current?.focus()
    },
    onDrag: (entry) => drag(entry && taken(entry)),
    onMenu: (entry, index) => {
      setCurrent(index)
      taken(entry)
    },
    onDrop,
    onLook,
    onChoose: (index, on, shift) => {
      setCurrent(index)
      choose(index, on, shift)
    },
  }
  return (
    <div className="@container flex min-h-0 min-w-0 flex-1 flex-col">
      <div className={`${columns} border-b border-line py-1 text-small text-soft`}>
        <span className="pl-1.5">
          <Checkbox
            checked={entries.length > 0 && chosen === entries.length ? true : chosen > 0 ? 'indeterminate' : false}
            label="Choose all"
            onChange={(on) => pick(entries, on)}
          />
        </span>
        <Heading column="name" title="Name" order={order} onOrder={onOrder} />
        <Heading column="size" title="Size" order={order} onOrder={onOrder} className="justify-end" />
        <Heading column="modified" title="Modified" order={order} onOrder={onOrder} className="hidden justify-end @xl:flex" />
      </div>
      {pending && <Skeleton rows={8} />}
      <RowMenu entries={entries} address={address} actions={actions} onOpen={(entry) => (entry.kind === 'folder' ? void navigate(linkOf(entry.address)) : onLook(entry))}>
      <div
        ref={box}
        tabIndex={0}
        role="grid"
        aria-label={`Folder ${address}`}
        aria-rowcount={entries.length}
        aria-multiselectable="true"
        aria-activedescendant={entries[current] ? `${id}-${current}` : undefined}
        onKeyDown={onKeyDown}
        className="min-h-0 flex-1 overflow-auto bg-ground will-change-scroll"
      >
        <Rows
          box={box}
          entries={entries}
          view={view}
          across={across}
          current={current}
          renaming={renaming}
          picked={picked}
          cut={carried?.move ? carried : undefined}
          id={id}
          linkOf={linkOf}
          marks={marks}
          draggable={address !== '/'}
          acts={acts}
          scrollTo={scrollTo}
          onNearEnd={onNearEnd}
        />
      </div>
      </RowMenu>
    </div>
  )
}

type RowsProps = Pick<Props, 'entries' | 'view' | 'renaming' | 'linkOf' | 'marks' | 'onNearEnd'> & {
  box: RefObject<HTMLDivElement | null>
  across: number
  current: number
  picked: ReadonlyMap<string, Entry>
  cut?: Carried
  id: string
  draggable: boolean
  acts: RefObject<RowActs>
  /** Is set to what brings an entry in sight. */
  scrollTo: RefObject<(index: number) => void>
}

/** The rows in sight. Scrolling draws this part alone. */
function Rows({ box, entries, view, across, current, renaming, picked, cut, id, linkOf, marks, draggable, acts, scrollTo, onNearEnd }: RowsProps) {
  const height = view === 'grid' ? tile.height : rowHeight
  const rows = useVirtualizer({ count: Math.ceil(entries.length / across), getScrollElement: () => box.current, estimateSize: () => height, overscan: view === 'grid' ? 2 : 8 })
  useEffect(() => rows.measure(), [rows, height])
  scrollTo.current = (index) => rows.scrollToIndex(Math.floor(index / across))
  const shown = rows.getVirtualItems()
  // As many places as there were rows at once: a row that comes takes the place of one that goes.
  const places = useRef(1)
  places.current = Math.max(places.current, shown.length * across)
  const last = ((shown[shown.length - 1]?.index ?? 0) + 1) * across - 1
  useEffect(() => {
    if (entries.length > 0 && last > entries.length - 200) onNearEnd()
  }, [last, entries.length, onNearEnd])
  return (
    <div style={{ height: rows.getTotalSize(), position: 'relative' }} role="rowgroup">
      {shown.flatMap((row) =>
        entries.slice(row.index * across, (row.index + 1) * across).map((entry, i) => {
          const index = row.index * across + i
          return (
            <Row
              key={index % places.current}
              entry={entry}
              index={index}
              view={view}
              top={row.start}
              left={(i * 100) / across}
              width={100 / across}
              current={index === current}
              renaming={renaming === entry.address}
              chosen={picked.has(entry.address)}
              cut={cut !== undefined && cut.entries.some((one) => one.address === entry.address)}
              id={id}
              link={entry.kind === 'folder' ? linkOf(entry.address) : ''}
              mark={marks?.get(entry.name)}
              draggable={draggable}
              acts={acts}
            />
          )
        }),
      )}
    </div>
  )
}

/** A column's name, which orders by it: up, down, and as the folder is listed. */
function Heading({ column, title, order, onOrder, className = '' }: { column: Column; title: string; order: Order; onOrder: (order: Order) => void; className?: string }) {
  const mine = order.by === column
  const next: Order = column === 'name' ? (order === asListed ? { by: 'name', down: true } : asListed) : mine && order.down ? { by: column, down: false } : { by: column, down: true }
  const Arrow = order.down ? ArrowDown : ArrowUp
  return (
    <button type="button" onClick={() => onOrder(next)} className={`flex items-center gap-1 hover:text-ink ${className}`} aria-label={`Order by ${title.toLowerCase()}`} aria-pressed={mine}>
      {title}
      {mine && <Arrow className="size-3" aria-label={order.down ? 'largest or latest first' : 'smallest or earliest first'} />}
    </button>
  )
}

type RowActs = {
  onRenamed: () => void
  onDrag: (entry?: Entry) => void
  onMenu: (entry: Entry, index: number) => void
  onDrop: (carried: Carried, into: string) => void
  onLook: (entry: Entry) => void
  onChoose: (index: number, on: boolean, shift: boolean) => void
}

type RowProps = {
  entry: Entry
  index: number
  view: View
  /** Pixels from the top; in the grid also where it begins and how wide it is, in percent. */
  top: number
  left: number
  width: number
  current: boolean
  renaming: boolean
  chosen: boolean
  cut: boolean
  id: string
  link: string
  mark?: Mark
  draggable: boolean
  acts: RefObject<RowActs>
}

const markLooks: Record<Mark, string> = { 'only here': 'text-plumage', differs: 'text-ochre', equal: 'text-reed', 'same size': 'text-soft' }

const Row = memo(function Row({ entry, index, view, top, left, width, current, renaming, chosen, cut, id, link, mark, draggable, acts }: RowProps) {
  const drop = useDrop(entry.kind === 'folder' ? entry.address : '/', (carried, into) => acts.current.onDrop(carried, into))
  const name = plain(entry.name) || '(no name)'
  const choose = (on: boolean, shift: boolean) => acts.current.onChoose(index, on, shift)
  const title = renaming ? (
    <Rename key={entry.address} entry={entry} onDone={() => acts.current.onRenamed()} />
  ) : entry.kind === 'folder' ? (
    <Link to={link} tabIndex={-1} draggable={false} onClick={(event) => event.stopPropagation()} className="truncate text-plumage hover:underline" title={name}>
      {name}
    </Link>
  ) : (
    <span className="truncate" title={name}>
      {name}
    </span>
  )
  return (
    <div
      id={`${id}-${index}`}
      role="row"
      aria-rowindex={index + 1}
      aria-selected={chosen}
      data-name={entry.name}
      data-address={entry.address}
      draggable={draggable && !renaming}
      onDragStart={(event) => {
        event.dataTransfer.setData(entriesType, entry.address)
        event.dataTransfer.effectAllowed = 'copyMove'
        acts.current.onDrag(entry)
      }}
      onDragEnd={() => acts.current.onDrag()}
      onContextMenu={() => acts.current.onMenu(entry, index)}
      {...(entry.kind === 'folder' ? drop.props : {})}
      style={view === 'grid' ? { position: 'absolute', top, height: tile.height - 8, left: `${left}%`, width: `calc(${width}% - 8px)` } : { position: 'absolute', top, height: rowHeight, left: 0, right: 0 }}
      onClick={(event) => choose(event.shiftKey ? true : !chosen, event.shiftKey)}
      onDoubleClick={() => entry.kind === 'file' && acts.current.onLook(entry)}
      className={`${view === 'grid' ? 'flex flex-col gap-1 rounded-md border border-line p-2' : `${columns} border-b border-line`} cursor-default [contain:layout_style] ${chosen ? 'bg-panel' : ''} ${drop.over ? 'bg-panel outline-2 outline-plumage' : ''} ${cut ? 'opacity-60' : ''} ${current ? 'shadow-[inset_2px_0_0_var(--plumage)]' : ''} hover:bg-panel`}
    >
      {view === 'grid' ? (
        <span role="gridcell" className="flex min-h-0 flex-1 flex-col gap-1">
          <span className="flex min-h-0 flex-1 items-center justify-center">
            <Picture entry={entry} size="small" instead={large[signOf(entry)]} className="max-h-full max-w-full object-contain" />
          </span>
          <span className="flex min-w-0 items-center gap-2">
            <RowCheckbox checked={chosen} label={`Choose ${name}`} onChange={choose} />
            {title}
          </span>
          <span className="truncate text-small text-soft">
            {entry.kind === 'folder' ? 'folder' : bytes(entry.size)}
            {mark && <span className={markLooks[mark]}>, {mark}</span>}
            {entry.lock && <span className="text-ochre">, locked</span>}
          </span>
        </span>
      ) : (
        <>
          <span role="gridcell" className="pl-1.5">
            <RowCheckbox checked={chosen} label={`Choose ${name}`} onChange={choose} />
          </span>
          <span role="gridcell" className="flex min-w-0 items-center gap-2">
            {small[signOf(entry)]}
            {title}
            {entry.document && <span className="text-small whitespace-nowrap text-soft">{entry.document}</span>}
            {entry.address.includes('/%id=') && entry.id && <span className="font-mono text-small whitespace-nowrap text-soft" title="The id of one of several entries with this name">{plain(entry.id)}</span>}
            {entry.read_only && <span className="text-small whitespace-nowrap text-soft">read only</span>}
            {entry.state && entry.state !== 'linked' && <State state={entry.state} />}
            <NoteMarks entry={entry} />
            {mark && <span className={`ml-auto text-small whitespace-nowrap ${markLooks[mark]}`}>{mark}</span>}
          </span>
          <span role="gridcell" className="text-right whitespace-nowrap">
            {entry.kind === 'folder' ? '' : bytes(entry.size)}
          </span>
          <span role="gridcell" className="hidden text-right whitespace-nowrap text-soft @xl:block">
            {entry.modified ? when(entry.modified) : ''}
          </span>
        </>
      )}
    </div>
  )
})

/** How many tiles there are in a row; one row of a list has one entry. */
function useAcross(box: RefObject<HTMLDivElement | null>, view: View): number {
  const [width, setWidth] = useState(0)
  useEffect(() => {
    if (view === 'list' || !box.current) return
    const seen = new ResizeObserver(([entry]) => setWidth(entry!.contentRect.width))
    seen.observe(box.current)
    return () => seen.disconnect()
  }, [box, view])
  return view === 'list' ? 1 : Math.max(1, Math.floor(width / tile.width))
}

/** Made once: rows come and go, and their signs are the same. */
const signs = (look: string) => ({
  account: <HardDrive className={look} aria-label="account" />,
  folder: <Folder className={look} aria-label="folder" />,
  document: <FileText className={look} aria-label="document" />,
  other: <Link2 className={look} aria-label="link or device" />,
  file: <File className={look} aria-label="file" />,
})
const small = signs('size-4 shrink-0 text-soft')
const large = signs('size-12 shrink-0 stroke-1 text-soft')

const signOf = (entry: Entry) => (entry.kind === 'folder' && entry.address.indexOf('/', 1) < 0 ? 'account' : (entry.kind as keyof typeof small))
