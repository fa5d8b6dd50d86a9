import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect } from 'react'
import { api, data, type Item, type Run } from '../api/client'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { bytes, count, plain, some, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'
import { VirtualRows } from '../ui/VirtualRows'
import { LetGo, useApprove } from './Held'
import { useItems } from './queries'

const decisions = [
  { value: 'source', title: 'Source', help: 'replace the file at the target' },
  { value: 'target', title: 'Target', help: 'keep the file at the target' },
  { value: 'newer', title: 'Newer', help: 'keep the file that changed last' },
  { value: 'keep-both', title: 'Both', help: 'write the source’s file beside the target’s' },
] as const
type Decision = (typeof decisions)[number]['value']

const columns = 'grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] items-center gap-x-4 gap-y-1 py-1 lg:grid-cols-[minmax(0,2fr)_minmax(0,1.2fr)_minmax(0,1.2fr)_280px]'

/** High enough for a few rows, and never so high that the rest of the page is out of sight. */
const heightFor = (rows: number) => `min(60vh, ${190 + rows * 52}px)`

/** What a held run asks, item by item: side by side what there is and what would be. */
export function Decisions({ run }: { run: Run }) {
  if (run.needs === 'decision') return <Conflicts run={run} />
  if (run.needs === 'approval') return <Changes run={run} />
  return null
}

function Conflicts({ run }: { run: Run }) {
  const client = useQueryClient()
  const items = useItems(run.id, { state: 'waiting', action: 'ask' }, false)
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = items
  const onMore = useCallback(() => void fetchNextPage(), [fetchNextPage])
  const rows = items.data?.pages.flatMap((page) => page.items) ?? []
  const decided = rows.filter((item) => item.decision).length
  const approve = useApprove(run)
  useEffect(() => void client.invalidateQueries({ queryKey: ['items', run.id] }), [client, run.id, run.items.waiting])
  const decide = useMutation({
    mutationFn: ({ seq, conflict }: { seq: number; conflict?: Decision }) =>
      data(api.PUT('/api/v1/runs/{id}/decisions', { params: { path: { id: run.id } }, body: { items: [seq], conflict } })),
    onSettled: () => client.invalidateQueries({ queryKey: ['items', run.id] }),
  })
  return (
    <section aria-label="Decisions" style={{ height: heightFor(rows.length) }} className="flex shrink-0 flex-col border-t-2 border-ochre py-2">
      <h2 className="text-large">Which file do you want to keep?</h2>
      <div className="flex flex-wrap items-center gap-2 py-2">
        <span>
          {run.items.waiting === 1 ? 'For the item that waits' : `For all ${count(run.items.waiting)} items`}
          {decided > 0 && ' without a decision'}:
        </span>
        {decisions.map((choice) => (
          <Button key={choice.value} title={choice.help} disabled={approve.isPending} onClick={() => approve.mutate(choice.value)}>
            {choice.title}
          </Button>
        ))}
        {decided > 0 && (
          <Button look="first" disabled={approve.isPending} onClick={() => approve.mutate('')}>
            Continue with {some(decided, 'decision')}
          </Button>
        )}
      </div>
      {decided > 0 && decided < run.items.waiting && <p className="pb-2 text-small text-soft">Items without a decision go on waiting.</p>}
      {approve.isError && <Failed error={approve.error} />}
      {decide.isError && <Failed error={decide.error} />}
      {items.isError && <Failed error={items.error} />}
      {items.isPending && <Skeleton rows={4} />}
      <div aria-hidden="true" className={`${columns} border-b border-line text-small text-soft`}>
        <span>File</span>
        <span className="hidden lg:inline">At the source</span>
        <span className="hidden lg:inline">At the target</span>
        <span className="hidden lg:inline">Keep</span>
      </div>
      <VirtualRows label="Conflicts" rows={rows} keyOf={(item) => item.seq} heightOf={() => 42} more={hasNextPage && !isFetchingNextPage} onMore={onMore}>
        {(item) => (
          <div className={columns}>
            <span className="col-span-2 font-mono text-small wrap-anywhere lg:col-span-1">{plain(item.address)}</span>
            <File title="source" size={item.size} modified={item.modified} newer={isNewer(item.modified, item.existing?.modified)} />
            <File title="target" size={item.existing?.size} modified={item.existing?.modified} newer={isNewer(item.existing?.modified, item.modified)} />
            <span role="group" aria-label={`Keep of ${plain(item.address)}`} className="col-span-2 flex flex-wrap gap-1 lg:col-span-1">
              {decisions.map((choice) => {
                const on = item.decision === choice.value
                return (
                  <button
                    key={choice.value}
                    type="button"
                    title={choice.help}
                    aria-pressed={on}
                    onClick={() => decide.mutate({ seq: item.seq, conflict: on ? undefined : choice.value })}
                    className={`h-7 rounded-md border px-2 text-small ${on ? 'border-plumage bg-plumage text-panel' : 'border-line hover:border-plumage'}`}
                  >
                    {choice.title}
                  </button>
                )
              })}
            </span>
          </div>
        )}
      </VirtualRows>
    </section>
  )
}

const isNewer = (one?: string, other?: string) => !!one && !!other && Date.parse(one) > Date.parse(other)

function File({ title, size, modified, newer }: { title: string; size?: number; modified?: string; newer?: boolean }) {
  if (size === undefined) return <span className="text-soft">no file</span>
  return (
    <span className="whitespace-nowrap">
      <span className="text-small text-soft lg:sr-only">{title} </span>
      {bytes(size)}
      <span className="block text-small text-soft">
        {when(modified)}
        {newer && <span className="text-plumage"> newer</span>}
      </span>
    </span>
  )
}

/** What a run would change that is above a safety limit. */
function Changes({ run }: { run: Run }) {
  const items = useItems(run.id, { state: 'waiting' }, false)
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = items
  const onMore = useCallback(() => void fetchNextPage(), [fetchNextPage])
  const rows = items.data?.pages.flatMap((page) => page.items) ?? []
  return (
    <section aria-label="Decisions" style={{ height: heightFor(rows.length) }} className="flex shrink-0 flex-col border-t-2 border-ochre py-2">
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="text-large">What the run would change</h2>
        <span className="text-soft">
          {count(run.items.waiting)} items, {run.removing.items > 0 ? `${some(run.removing.items, 'file')} of them deleted (${bytes(run.removing.bytes)})` : 'none deleted'}
        </span>
        <span className="ml-auto">
          <LetGo run={run} />
        </span>
      </div>
      {items.isError && <Failed error={items.error} />}
      {items.isPending && <Skeleton rows={4} />}
      <div aria-hidden="true" className={`${columns} border-b border-line text-small text-soft`}>
        <span>At the target</span>
        <span className="hidden lg:inline">Now</span>
        <span className="hidden lg:inline">After the run</span>
        <span />
      </div>
      <VirtualRows label="Changes" rows={rows} keyOf={(item) => item.seq} heightOf={() => 42} more={hasNextPage && !isFetchingNextPage} onMore={onMore}>
        {(item) => <Change item={item} kept={(run.rules?.deletions ?? 'keep-version') === 'keep-version'} />}
      </VirtualRows>
    </section>
  )
}

function Change({ item, kept }: { item: Item; kept: boolean }) {
  const removes = item.action === 'remove'
  const now = removes && !item.existing ? { size: item.size, modified: item.modified } : item.existing
  return (
    <div className={columns}>
      <span className="col-span-2 font-mono text-small wrap-anywhere lg:col-span-1">{plain(item.target)}</span>
      {item.kind === 'folder' ? <span className="text-soft">{removes ? 'folder' : 'none'}</span> : <File title="now" size={now?.size} modified={now?.modified} />}
      {removes ? <span className="text-brick">deleted</span> : item.kind === 'folder' ? <span>folder</span> : <File title="after the run" size={item.size} modified={item.modified} />}
      <span className="text-soft">{removes ? (kept && item.kind !== 'folder' ? 'a version stays in history' : '') : item.existing ? `replaced${kept ? ', a version stays in history' : ''}` : 'new'}</span>
    </div>
  )
}
