import { ContextMenu } from 'radix-ui'
import { type ReactNode, useState } from 'react'
import { useNavigate } from 'react-router'
import type { Entry } from '../api/client'
import { some } from '../ui/format'
import type { TableActions } from './FolderTable'
import { usePicks } from './picks'
import { useMayChange } from '../ui/may'

type Props = { entries: Entry[]; address: string; actions: TableActions; onOpen: (entry: Entry) => void; children: ReactNode }

/** What can be done with the rows that are selected, at the pointer. */
export function RowMenu({ entries, address, actions, onOpen, children }: Props) {
  const navigate = useNavigate()
  const { picked } = usePicks()
  const [open, setOpen] = useState(false)
  const may = useMayChange()
  const chosen = open ? entries.filter((entry) => picked.has(entry.address)) : []
  const [first] = chosen
  const inAccount = address !== '/'
  return (
    <ContextMenu.Root onOpenChange={setOpen} modal={false}>
      <ContextMenu.Trigger asChild>{children}</ContextMenu.Trigger>
      <ContextMenu.Portal container={document.querySelector('main')}>
        <ContextMenu.Content className="z-30 min-w-56 rounded-md border border-line bg-panel p-1 shadow-lg">
          {chosen.length > 1 && <ContextMenu.Label className="px-2 py-1 text-small text-soft">{some(chosen.length, 'entry')}</ContextMenu.Label>}
          {chosen.length === 1 && first!.kind !== 'other' && <Item title={first!.kind === 'folder' ? 'Open' : 'Look at it'} keys="Enter" onSelect={() => onOpen(first!)} />}
          {chosen.length > 0 && (
            <>
              <Item title="Copy to…" disabled={!may} onSelect={actions.copyTo} />
              {inAccount && <Item title="Move to…" disabled={!may} onSelect={actions.moveTo} />}
              <Item title="Download" onSelect={actions.download} />
              <Line />
              {inAccount && <Item title="Cut" keys="Ctrl X" disabled={!may} onSelect={() => actions.carry(chosen, true)} />}
              <Item title="Copy" keys="Ctrl C" onSelect={() => actions.carry(chosen, false)} />
            </>
          )}
          {inAccount && <Item title="Paste here" keys="Ctrl V" disabled={!actions.canPaste || !may} onSelect={() => actions.paste(address)} />}
          {chosen.length > 0 && inAccount && (
            <>
              <Line />
              <Item title="Rename" keys="F2" disabled={chosen.length !== 1 || !may} onSelect={() => actions.rename()} />
              {chosen.length <= 2 && (
                <Item
                  title={chosen.length === 2 ? 'Compare' : 'Compare with…'}
                  onSelect={() => void navigate(`/compare?${new URLSearchParams({ here: first!.address, ...(chosen[1] ? { there: chosen[1].address } : {}) })}`)}
                />
              )}
              {chosen.length === 1 && first!.kind === 'folder' && <Item title="Survey…" onSelect={() => void navigate(`/survey?${new URLSearchParams({ of: first!.address })}`)} />}
              {chosen.length === 1 && <Item title="Share…" disabled={!may} onSelect={() => void navigate(`/settings/shares?${new URLSearchParams({ new: first!.address })}`)} />}
              <Item title="Tags, comments, lock…" onSelect={actions.note} />
              <Line />
              <Item title="Delete…" keys="Delete" danger disabled={!may} onSelect={actions.remove} />
            </>
          )}
        </ContextMenu.Content>
      </ContextMenu.Portal>
    </ContextMenu.Root>
  )
}

function Item({ title, keys, disabled, danger, onSelect }: { title: string; keys?: string; disabled?: boolean; danger?: boolean; onSelect: () => void }) {
  return (
    <ContextMenu.Item onSelect={onSelect} disabled={disabled} className={`flex h-8 cursor-pointer items-center justify-between gap-6 rounded-md px-2 data-disabled:opacity-50 data-highlighted:bg-ground ${danger ? 'text-brick' : ''}`}>
      {title}
      {keys && <kbd className="text-small text-soft">{keys}</kbd>}
    </ContextMenu.Item>
  )
}

const Line = () => <ContextMenu.Separator className="my-1 border-t border-line" />
