import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useRef, useState } from 'react'
import type { Item, Run } from '../api/client'
import { bytes, count, plain } from '../ui/format'
import { Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { Tabs } from '../ui/Tabs'
import { type ItemState, useItems } from './queries'

/** A run's items, those of one state or all, as far as they are in sight. */
export function ItemList({ run }: { run: Run }) {
  const [chosen, setChosen] = useState<ItemState | ''>()
  const state = chosen ?? (run.items.failed > 0 ? 'failed' : '')
  const items = useItems(run.id, state, !run.ended)
  const rows = items.data?.pages.flatMap((page) => page.items) ?? []
  const box = useRef<HTMLDivElement>(null)
  const list = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => (rows[i]?.cause ? 72 : 32),
    overscan: 10,
    getItemKey: (i) => rows[i]?.seq ?? i,
  })
  const shown = list.getVirtualItems()
  const last = shown[shown.length - 1]?.index ?? 0
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = items
  useEffect(() => {
    if (last > rows.length - 100 && hasNextPage && !isFetchingNextPage) void fetchNextPage()
  }, [last, rows.length, hasNextPage, isFetchingNextPage, fetchNextPage])
  const choices: [ItemState | '', string, number][] = [
    ['', 'All', run.items.done + run.items.failed + run.items.skipped + run.items.waiting],
    ['failed', 'Failed', run.items.failed],
    ['done', 'Done', run.items.done],
    ['skipped', 'Skipped', run.items.skipped],
    ['waiting', 'Waiting', run.items.waiting],
  ]
  return (
    <section aria-label="Items" className="flex min-h-80 flex-1 flex-col border-t border-line">
      <Tabs
        label="Items shown"
        value={state || 'all'}
        onChange={(next) => setChosen(next === 'all' ? '' : (next as ItemState))}
        choices={choices.map(([value, title, n]) => ({ value: value || 'all', title: `${title} ${count(n)}` }))}
      />
      {items.isError && <Failed error={items.error} />}
      {items.isSuccess && rows.length === 0 && <p className="py-2 text-soft">None. Items that were up to date are counted and not listed.</p>}
      <div ref={box} tabIndex={0} role="list" aria-label="Items" className="min-h-0 flex-1 overflow-auto">
        <div style={{ height: list.getTotalSize(), position: 'relative' }}>
          {shown.map((row) => (
            <div key={row.key} ref={list.measureElement} data-index={row.index} role="listitem" style={{ position: 'absolute', top: row.start, left: 0, right: 0 }} className="border-b border-line">
              <ItemRow item={rows[row.index]!} />
            </div>
          ))}
        </div>
      </div>
    </section>
  )
}

function ItemRow({ item }: { item: Item }) {
  return (
    <div className="grid grid-cols-[92px_minmax(0,1fr)_90px] gap-x-3 py-1">
      <span>
        <State state={item.state} />
      </span>
      <span className="min-w-0">
        <span className="font-mono text-small break-all" title={item.verification || undefined}>
          {item.action === 'remove' ? <span className="text-brick">delete {plain(item.target)}</span> : plain(item.address)}
        </span>
        {item.cause && (
          <span className="block">
            <span className="font-mono text-small text-soft">{item.cause}</span> {item.why ? `${item.why}. ` : `${item.meaning} `}
            <span className="text-soft">{item.remedy}</span>
          </span>
        )}
      </span>
      <span className="text-right whitespace-nowrap">{item.kind === 'folder' ? 'folder' : bytes(item.size)}</span>
    </div>
  )
}
