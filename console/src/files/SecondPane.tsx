import { ArrowLeft, ArrowRight, X } from 'lucide-react'
import type { Entry } from '../api/client'
import { Button } from '../ui/Button'
import { some } from '../ui/format'
import { type Carried, useDrop } from './clipboard'
import { FolderTable, type TableActions, type View } from './FolderTable'
import type { Mark } from './marks'
import { Counted, NotListed, NothingHere, type useFolder, Way } from './Pane'
import { usePicks } from './picks'

type Props = {
  address: string
  other: string
  list: ReturnType<typeof useFolder>
  marks: Map<string, Mark>
  linkOf: (address: string) => string
  actions: TableActions
  onBring: (entries: Entry[], into: string) => void
  onClose: () => void
  onLook: (entry: Entry) => void
  onDrop: (carried: Carried, into: string) => void
  view: View
  renaming?: string
  onRenamed: () => void
}

/** A second listing beside the first, with its own address, and what differs between the two. */
export function SecondPane({ address, other, list, marks, linkOf, actions, onBring, onClose, onLook, onDrop, view, renaming, onRenamed }: Props) {
  const { folder, entries, shown, order, setOrder, refresh } = list
  const drop = useDrop(address, onDrop)
  const { picked } = usePicks()
  const chosen = entries.filter((entry) => picked.has(entry.address))
  const fresh = entries.filter((entry) => marks.get(entry.name) === 'only here' || marks.get(entry.name) === 'differs')
  const bring = chosen.length > 0 ? chosen : fresh
  return (
    <section aria-label="Second pane" {...drop.props} className={`flex min-h-0 min-w-0 flex-1 flex-col border-l border-line pl-4 ${drop.over ? 'outline-2 outline-plumage' : ''}`}>
      <div className="flex min-h-20 flex-wrap content-start items-center justify-between gap-2 pb-2">
        <Way address={address} linkOf={linkOf} main={false} />
        <span className="flex items-center gap-2">
          <span className="text-small text-soft">{folder.isSuccess && <Counted entries={shown} />}</span>
          <button type="button" onClick={onClose} aria-label="Close the second pane" className="inline-flex size-8 items-center justify-center rounded-md text-soft hover:text-ink">
            <X className="size-4" aria-hidden="true" />
          </button>
        </span>
        <Bring entries={bring} selected={chosen.length > 0} to={other} from={address} side="left" onBring={() => onBring(bring, other)} />
      </div>
      {folder.isError ? (
        <NotListed error={folder.error} address={address} onRetry={refresh} />
      ) : folder.isSuccess && entries.length === 0 ? (
        <NothingHere root={address === '/'} />
      ) : (
        <FolderTable
          entries={shown}
          address={address}
          pending={folder.isPending}
          order={order}
          onOrder={setOrder}
          onLook={onLook}
          onNearEnd={() => folder.hasNextPage && !folder.isFetchingNextPage && void folder.fetchNextPage()}
          linkOf={linkOf}
          marks={marks}
          actions={actions}
          onDrop={onDrop}
          view={view}
          renaming={renaming}
          onRenamed={onRenamed}
          id="second"
        />
      )}
    </section>
  )
}

type BringProps = { entries: Entry[]; selected?: boolean; to: string; from: string; side: 'left' | 'right'; onBring: () => void }

/** Brings what the other pane does not have to it, or what is selected. */
export function Bring({ entries, selected, to, from, side, onBring }: BringProps) {
  if (from === '/' || to === '/' || from === to) return <span className="text-small text-soft">Open a different folder in each pane to compare them.</span>
  if (entries.length === 0) return <span className="text-small text-soft">Nothing new or differing to copy to the {side}.</span>
  return (
    <Button onClick={onBring} title={`Copy to ${to}`}>
      {side === 'left' && <ArrowLeft className="size-4" aria-hidden="true" />}
      Copy {selected ? some(entries.length, 'entry') : some(entries.length, 'new or differing entry')} to the {side}
      {side === 'right' && <ArrowRight className="size-4" aria-hidden="true" />}
    </Button>
  )
}
