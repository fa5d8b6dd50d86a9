import { useCallback } from 'react'
import type { Item, Run } from '../api/client'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { SelectField } from '../ui/Field'
import { FilterField } from '../ui/FilterField'
import { useFilters } from '../ui/filters'
import { bytes, count, plain } from '../ui/format'
import { State } from '../ui/State'
import { Tabs } from '../ui/Tabs'
import { VirtualRows } from '../ui/VirtualRows'
import { type ItemState, useCauses, useItems } from './queries'

const filters = ['state', 'cause', 'folder', 'text']

/** A run's items, those that the filters in the page's address take. */
export function ItemList({ run }: { run: Run }) {
  const { get, has, set, clear } = useFilters()
  const filtered = filters.some(has)
  const state = get('state') || (!filtered && run.items.failed > 0 ? 'failed' : 'all')
  const text = get('text')
  const folder = get('folder')
  const items = useItems(
    run.id,
    { state: state === 'all' ? undefined : (state as ItemState), cause: get('cause') || undefined, folder: folder || undefined, text: text || undefined },
    !run.ended,
  )
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = items
  const rows = items.data?.pages.flatMap((page) => page.items) ?? []
  // A search returns what it found so far: the list goes on until it has some rows or the end.
  const more = hasNextPage && !isFetchingNextPage
  const onMore = useCallback(() => void fetchNextPage(), [fetchNextPage])
  const all = run.items.done + run.items.failed + run.items.skipped + run.items.waiting
  const searched = items.data?.pages[items.data.pages.length - 1]?.searched ?? 0
  const choices: [string, string, number][] = [
    ['all', 'All', all],
    ['failed', 'Failed', run.items.failed],
    ['done', 'Done', run.items.done],
    ['skipped', 'Skipped', run.items.skipped],
    ['waiting', 'Waiting', run.items.waiting],
  ]
  return (
    <section aria-label="Items" className="flex min-h-80 flex-1 flex-col border-t border-line">
      <Tabs label="Items shown" value={state} onChange={(next) => set('state', next)} choices={choices.map(([value, title, n]) => ({ value, title: `${title} ${count(n)}` }))} />
      <Filters run={run} get={get} set={set} onClear={filtered ? clear : undefined} />
      {items.isError && <Failed error={items.error} />}
      {items.isSuccess && rows.length === 0 && !hasNextPage && (
        <p className="py-2 text-soft">{filtered ? 'No item matches these filters.' : 'None.'} Items that were up to date are counted and not listed.</p>
      )}
      {(text || folder) && hasNextPage && (
        <p role="status" className="py-1 text-small text-soft">
          {count(rows.length)} found; {count(searched)} of {count(all)} items searched.
        </p>
      )}
      <VirtualRows label="Items" rows={rows} keyOf={(item) => item.seq} heightOf={(item) => (item.cause ? 72 : 32)} more={more} onMore={onMore}>
        {(item) => <ItemRow item={item} />}
      </VirtualRows>
    </section>
  )
}

type FiltersProps = { run: Run; get: (name: string) => string; set: (name: string, value: string) => void; onClear?: () => void }

function Filters({ run, get, set, onClear }: FiltersProps) {
  const causes = useCauses(run.id, !run.ended).data ?? []
  return (
    <div className="flex flex-wrap items-end gap-3 pb-2">
      <div className="w-56">
        <SelectField
          label="Cause"
          value={get('cause')}
          onChange={(value) => set('cause', value)}
          choices={[{ value: '', title: 'any' }, ...[...new Set(causes.map((cause) => cause.cause))].map((cause) => ({ value: cause, title: cause }))]}
        />
      </div>
      <FilterField label="Folder" mono className="w-72 max-w-full" placeholder={run.routes[0]?.from} value={get('folder')} onChange={(value) => set('folder', value)} />
      <FilterField label="Text in the path" className="w-56 max-w-full" value={get('text')} onChange={(value) => set('text', value)} />
      {onClear && <Button onClick={onClear}>Clear filters</Button>}
    </div>
  )
}

function ItemRow({ item }: { item: Item }) {
  return (
    <div className="grid grid-cols-[92px_minmax(0,1fr)_90px] gap-x-3 py-1">
      <span>
        <State state={item.state} />
      </span>
      <span className="min-w-0">
        <span className="font-mono text-small wrap-anywhere" title={item.verification || undefined}>
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
