import { useVirtualizer } from '@tanstack/react-virtual'
import { File, FileText, Folder, HardDrive, Link2 } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { Link, useNavigate } from 'react-router'
import type { Entry } from '../api/client'
import { Checkbox } from '../ui/Checkbox'
import { bytes, plain, when } from '../ui/format'
import { parent, treeLink } from './address'

type Props = {
  entries: Entry[]
  address: string
  pending: boolean
  chosen: ReadonlySet<string>
  onChoose: (chosen: ReadonlySet<string>) => void
  onNearEnd: () => void
}

const rowHeight = 32
const columns = 'grid grid-cols-[28px_minmax(0,1fr)_100px] sm:grid-cols-[28px_minmax(0,1fr)_110px_180px] items-center gap-x-3'

/** A folder as rows, of which only those in sight are in the page. */
export function FolderTable({ entries, address, pending, chosen, onChoose, onNearEnd }: Props) {
  const navigate = useNavigate()
  const box = useRef<HTMLDivElement>(null)
  const [current, setCurrent] = useState(0)
  const [anchor, setAnchor] = useState(0)
  const rows = useVirtualizer({ count: entries.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 12 })
  const shown = rows.getVirtualItems()
  const last = shown[shown.length - 1]?.index ?? 0
  useEffect(() => {
    if (entries.length > 0 && last > entries.length - 200) onNearEnd()
  }, [last, entries.length, onNearEnd])

  const choose = (index: number, on: boolean, range: boolean) => {
    const next = new Set(chosen)
    const [from, to] = range ? [Math.min(anchor, index), Math.max(anchor, index)] : [index, index]
    for (const entry of entries.slice(from, to + 1)) on ? next.add(entry.address) : next.delete(entry.address)
    setAnchor(index)
    onChoose(next)
  }
  const move = (to: number) => {
    const index = Math.max(0, Math.min(entries.length - 1, to))
    setCurrent(index)
    rows.scrollToIndex(index)
  }
  const onKeyDown = (event: React.KeyboardEvent) => {
    const entry = entries[current]
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? rowHeight) / rowHeight) - 2)
    const moves: Record<string, number> = {
      ArrowDown: current + 1, ArrowUp: current - 1, PageDown: current + page, PageUp: current - page, Home: 0, End: entries.length - 1,
    }
    if (event.key in moves) {
      move(moves[event.key]!)
      if (event.shiftKey && entry) choose(moves[event.key]!, true, true)
    } else if (event.key === ' ' && entry) choose(current, !chosen.has(entry.address), event.shiftKey)
    else if (event.key === 'Enter' && entry) {
      if (entry.kind === 'folder') void navigate(treeLink(entry.address))
      else onChoose(new Set([entry.address]))
    } else if (event.key === 'Backspace' && address !== '/') void navigate(treeLink(parent(address)))
    else if (event.key === 'a' && (event.ctrlKey || event.metaKey)) onChoose(new Set(entries.map((one) => one.address)))
    else if (event.key === 'Escape') onChoose(new Set())
    else return
    event.preventDefault()
  }
  const all = entries.length > 0 && chosen.size === entries.length
  return (
    <div className="flex min-h-0 min-w-0 flex-1 flex-col">
      <div className={`${columns} border-b border-line py-1 text-small text-soft`}>
        <Checkbox
          checked={all ? true : chosen.size > 0 ? 'indeterminate' : false}
          label="Choose all"
          onChange={(on) => onChoose(on ? new Set(entries.map((entry) => entry.address)) : new Set())}
        />
        <span>Name</span>
        <span className="text-right">Size</span>
        <span className="hidden text-right sm:block">Modified</span>
      </div>
      {pending && <p className="py-3 text-soft">Listing…</p>}
      <div
        ref={box}
        tabIndex={0}
        role="grid"
        aria-label={`Folder ${address}`}
        aria-rowcount={entries.length}
        aria-multiselectable="true"
        aria-activedescendant={entries[current] ? `row-${current}` : undefined}
        onKeyDown={onKeyDown}
        className="min-h-0 flex-1 overflow-auto"
      >
        <div style={{ height: rows.getTotalSize(), position: 'relative' }} role="rowgroup">
          {shown.map((row) => {
            const entry = entries[row.index]!
            return (
              <Row
                key={entry.address + entry.kind}
                entry={entry}
                index={row.index}
                top={row.start}
                current={row.index === current}
                chosen={chosen.has(entry.address)}
                onChoose={(on, shift) => {
                  setCurrent(row.index)
                  choose(row.index, on, shift)
                }}
              />
            )
          })}
        </div>
      </div>
    </div>
  )
}

type RowProps = { entry: Entry; index: number; top: number; current: boolean; chosen: boolean; onChoose: (on: boolean, shift: boolean) => void }

function Row({ entry, index, top, current, chosen, onChoose }: RowProps) {
  const name = plain(entry.name) || '(no name)'
  return (
    <div
      id={`row-${index}`}
      role="row"
      aria-rowindex={index + 1}
      aria-selected={chosen}
      data-name={entry.name}
      style={{ position: 'absolute', top, left: 0, right: 0, height: rowHeight }}
      onClick={(event) => onChoose(event.shiftKey ? true : !chosen, event.shiftKey)}
      className={`${columns} cursor-default border-b border-line ${chosen ? 'bg-panel' : ''} ${current ? 'shadow-[inset_2px_0_0_var(--plumage)]' : ''} hover:bg-panel`}
    >
      <span role="gridcell" className="pl-1.5">
        <Checkbox checked={chosen} tabIndex={-1} label={`Choose ${name}`} onChange={onChoose} />
      </span>
      <span role="gridcell" className="flex min-w-0 items-center gap-2">
        <Icon entry={entry} />
        {entry.kind === 'folder' ? (
          <Link to={treeLink(entry.address)} tabIndex={-1} onClick={(event) => event.stopPropagation()} className="truncate text-plumage hover:underline" title={name}>
            {name}
          </Link>
        ) : (
          <span className="truncate" title={name}>
            {name}
          </span>
        )}
      </span>
      <span role="gridcell" className="text-right whitespace-nowrap">
        {entry.kind === 'folder' ? '' : bytes(entry.size)}
      </span>
      <span role="gridcell" className="hidden text-right whitespace-nowrap text-soft sm:block">
        {entry.modified ? when(entry.modified) : ''}
      </span>
    </div>
  )
}

function Icon({ entry }: { entry: Entry }) {
  const look = 'size-4 shrink-0 text-soft'
  if (entry.kind === 'folder') {
    return entry.address.indexOf('/', 1) < 0 ? <HardDrive className={look} aria-label="account" /> : <Folder className={look} aria-label="folder" />
  }
  if (entry.kind === 'document') return <FileText className={look} aria-label="document" />
  if (entry.kind === 'other') return <Link2 className={look} aria-label="link or device" />
  return <File className={look} aria-label="file" />
}
