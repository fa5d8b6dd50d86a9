import { useVirtualizer } from '@tanstack/react-virtual'
import { ChevronRight, Folder, HardDrive } from 'lucide-react'
import { useEffect, useRef, useState } from 'react'
import { useSpace } from '../accounts/queries'
import { bytes, plain } from '../ui/format'
import { State } from '../ui/State'
import { steps } from './address'
import { type Carried, useDrop } from './clipboard'
import { type TreeRow, useTreeRows } from './folders'

const rowHeight = 28
const usual = 500

type Props = { label: string; current: string; onChoose: (address: string) => void; onDrop?: (carried: Carried, into: string) => void; remember?: string }

const remembered = (key: string | undefined) => {
  try {
    return new Set<string>(key ? (JSON.parse(localStorage.getItem(key) ?? '[]') as string[]) : [])
  } catch {
    return new Set<string>()
  }
}

/** The folders of all accounts, opened as they are needed: by the tree pattern of ARIA. */
export function FolderTree({ label, current, onChoose, onDrop, remember }: Props) {
  const [open, setOpen] = useState<ReadonlySet<string>>(() => remembered(remember))
  const [wants, setWants] = useState<ReadonlyMap<string, number>>(new Map())
  const [active, setActive] = useState(current)
  const typed = useRef({ text: '', at: 0 })
  const rows = useTreeRows(open, wants, usual)
  const spaces = useSpace().data?.accounts
  const box = useRef<HTMLDivElement>(null)
  const list = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 12, getItemKey: (i) => rows[i]!.address })
  useEffect(() => {
    setActive(current)
    const way = steps(current).slice(1, -1).map((step) => step.address)
    setOpen((before) => (way.every((address) => before.has(address)) ? before : new Set([...before, ...way])))
  }, [current])
  useEffect(() => {
    if (remember) localStorage.setItem(remember, JSON.stringify([...open].slice(-200)))
  }, [open, remember])
  const index = Math.max(0, rows.findIndex((row) => row.address === active))
  const go = (to: number) => {
    const row = rows[Math.max(0, Math.min(rows.length - 1, to))]
    if (!row) return
    setActive(row.address)
    list.scrollToIndex(rows.indexOf(row))
  }
  const toggle = (address: string, on: boolean) =>
    setOpen((before) => {
      const next = new Set(before)
      if (on) next.add(address)
      else for (const one of before) if (one === address || one.startsWith(`${address}/`)) next.delete(one)
      return next
    })
  const choose = (row: TreeRow) => {
    setActive(row.address)
    if (row.kind === 'folder') onChoose(row.address)
    else if (row.kind === 'more') setWants((before) => new Map(before).set(row.parent, (before.get(row.parent) ?? usual) + 5000))
  }
  const onKeyDown = (event: React.KeyboardEvent) => {
    const row = rows[index]
    if (!row || event.ctrlKey || event.metaKey || event.altKey) return
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? rowHeight) / rowHeight) - 1)
    const moves: Record<string, number> = { ArrowDown: index + 1, ArrowUp: index - 1, Home: 0, End: rows.length - 1, PageDown: index + page, PageUp: index - page }
    if (event.key in moves) go(moves[event.key]!)
    else if (event.key === 'ArrowRight' && row.kind === 'folder') row.open ? go(index + 1) : toggle(row.address, true)
    else if (event.key === 'ArrowLeft') row.open ? toggle(row.address, false) : go(rows.findIndex((one) => one.address === row.parent))
    else if (event.key === 'Enter' || event.key === ' ') choose(row)
    else if (event.key.length === 1) {
      const now = Date.now()
      typed.current = { text: now - typed.current.at < 800 ? typed.current.text + event.key : event.key, at: now }
      const wanted = typed.current.text.toLocaleLowerCase()
      const order = [...rows.slice(index + (wanted.length > 1 ? 0 : 1)), ...rows.slice(0, index + 1)]
      const found = order.find((one) => one.kind === 'folder' && one.name.toLocaleLowerCase().startsWith(wanted))
      if (found) go(rows.indexOf(found))
    } else return
    event.preventDefault()
    event.stopPropagation()
  }
  return (
    <div ref={box} role="tree" aria-label={label} tabIndex={0} aria-activedescendant={rows[index] ? idOf(rows[index].address) : undefined} onKeyDown={onKeyDown} className="min-h-0 flex-1 overflow-auto">
      <div style={{ height: list.getTotalSize(), position: 'relative' }} role="presentation">
        {list.getVirtualItems().map((item) => {
          const row = rows[item.index]!
          return (
            <Row
              key={row.address}
              row={row}
              top={item.start}
              active={item.index === index}
              current={row.address === current}
              space={row.level === 1 ? spaces?.find((one) => `/${one.account}` === row.address)?.space : undefined}
              onToggle={() => toggle(row.address, !row.open)}
              onChoose={() => choose(row)}
              onDrop={onDrop}
            />
          )
        })}
      </div>
    </div>
  )
}

const idOf = (address: string) => `tree-${address.replaceAll(/[^A-Za-z0-9]/g, (c) => `_${c.codePointAt(0)!.toString(16)}`)}`

type RowProps = { row: TreeRow; top: number; active: boolean; current: boolean; space?: { used: number; free: number; total: number }; onToggle: () => void; onChoose: () => void; onDrop?: Props['onDrop'] }

function Row({ row, top, active, current, space, onToggle, onChoose, onDrop }: RowProps) {
  const drop = useDrop(row.kind === 'folder' ? row.address : '/', onDrop ?? (() => {}))
  const Icon = row.level === 1 ? HardDrive : Folder
  const account = row.level === 1 && row.entry
  return (
    <div
      id={idOf(row.address)}
      role="treeitem"
      aria-level={row.level}
      aria-setsize={row.of}
      aria-posinset={row.place}
      aria-expanded={row.kind === 'folder' ? row.open : undefined}
      aria-selected={current}
      data-address={row.address}
      style={{ position: 'absolute', top, left: 0, right: 0, height: rowHeight, paddingLeft: (row.level - 1) * 14 }}
      onClick={onChoose}
      {...(onDrop ? drop.props : {})}
      className={`flex cursor-default items-center gap-1 rounded-md pr-2 ${current ? 'bg-panel font-semibold' : ''} ${drop.over ? 'bg-panel outline-2 outline-plumage' : ''} ${active ? 'shadow-[inset_2px_0_0_var(--plumage)]' : ''} hover:bg-panel`}
    >
      {row.kind === 'folder' ? (
        <span
          role="presentation"
          className="flex size-5 shrink-0 items-center justify-center text-soft"
          onClick={(event) => {
            event.stopPropagation()
            onToggle()
          }}
        >
          <ChevronRight className={`size-4 ${row.open ? 'rotate-90' : ''}`} aria-hidden="true" />
        </span>
      ) : (
        <span className="w-5 shrink-0" />
      )}
      {row.kind === 'folder' && <Icon className="size-4 shrink-0 text-soft" aria-hidden="true" />}
      <span className={`min-w-0 flex-1 truncate ${row.kind === 'folder' ? '' : row.kind === 'failed' ? 'text-brick' : row.kind === 'more' ? 'text-plumage' : 'text-soft'}`} title={plain(row.name)}>
        {plain(row.name)}
      </span>
      {account && account.state && account.state !== 'linked' && <State state={account.state} />}
      {account && space && space.total > 0 && space.free >= 0 && (
        <span className="text-small whitespace-nowrap text-soft" title={`${bytes(space.free)} of ${bytes(space.total)} free`}>
          {Math.round((space.used / space.total) * 100)} % used
        </span>
      )}
    </div>
  )
}
