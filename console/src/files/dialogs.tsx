import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, data, type Entry, type Quantity, type Removed } from '../api/client'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { Field } from '../ui/Field'
import { bytes, plain, some } from '../ui/format'
import { Failed } from '../ui/Banner'
import { useUndo } from '../ui/undo'
import { parent, filesLink } from './address'
import { keepTarget } from './recent'
import { TargetField } from './TargetField'
import { usePicks } from './picks'

/** Folders are asked for again after something in them was changed. */
export function useFreshen() {
  const client = useQueryClient()
  return () => void client.invalidateQueries({ queryKey: ['folder'] })
}

function Buttons({ onClose, verb, disabled, danger }: { onClose: () => void; verb: string; disabled: boolean; danger?: boolean }) {
  return (
    <div className="flex justify-end gap-2">
      <Button onClick={onClose}>Close</Button>
      <Button look={danger ? 'danger' : 'first'} type="submit" disabled={disabled}>
        {verb}
      </Button>
    </div>
  )
}

export function NewFolderDialog({ address, onClose }: { address: string; onClose: () => void }) {
  return (
    <Dialog open onClose={onClose} title="New folder" description={<span className="font-mono text-small">in {plain(address)}</span>}>
      <NewFolderForm address={address} onClose={onClose} onMade={onClose} />
    </Dialog>
  )
}

/** The name of a new folder. */
export function NewFolderForm({ address, onClose, onMade }: { address: string; onClose: () => void; onMade: (name: string) => void }) {
  const [name, setName] = useState('')
  const freshen = useFreshen()
  const make = useMutation({
    mutationFn: () => data(api.POST('/api/v1/folders', { body: { address, names: [name] } })),
    onSuccess: () => {
      freshen()
      onMade(name)
    },
  })
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        event.stopPropagation()
        make.mutate()
      }}
    >
      <Field label="Name" value={name} onChange={(event) => setName(event.target.value)} autoFocus />
      {make.isError && <Failed error={make.error} />}
      <Buttons onClose={onClose} verb="Create folder" disabled={name === '' || make.isPending} />
    </form>
  )
}

/** What was moved within an account is there at once; what goes to another is a run. */
function useMove(onClose: () => void) {
  const freshen = useFreshen()
  const picks = usePicks()
  const navigate = useNavigate()
  const offer = useUndo()
  return useMutation({
    mutationFn: (body: { from: string[]; to: string }) => data(api.POST('/api/v1/moves', { body })),
    onSuccess: (moved) => {
      freshen()
      picks.clear()
      onClose()
      if (moved.run) return void navigate(`/runs/${moved.run}`)
      offer(`Moved ${some(moved.moved.length, 'entry')}.`, async () => {
        // Each goes back to where it was: they may have been in several folders.
        for (const one of moved.moved) await data(api.POST('/api/v1/moves', { body: { from: [one.to], to: parent(one.from) } }))
        freshen()
      })
    },
  })
}

export function MoveDialog({ entries, into = '', onClose }: { entries: Entry[]; into?: string; onClose: () => void }) {
  const [to, setTo] = useState(into)
  const move = useMove(onClose)
  const what = entries.length === 1 ? plain(entries[0]!.name) : some(entries.length, 'entry')
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Move ${what}`}
      description="Within an account the entry is renamed. To another account it is copied, verified and then deleted here. Nothing is overwritten."
    >
      <form className="grid gap-4" onSubmit={(event) => (event.preventDefault(), (keepTarget(to), move.mutate({ from: entries.map((entry) => entry.address), to })))}>
        <TargetField label="Into the folder" value={to} onChange={setTo} />
        {move.isError && <Failed error={move.error} />}
        <Buttons onClose={onClose} verb={`Move ${what}`} disabled={!/^\/[a-z0-9-]+/.test(to) || move.isPending} />
      </form>
    </Dialog>
  )
}

/** "214 files and 3 folders, 1.2 GiB". */
export function quantity(q: Quantity): string {
  const parts = [q.files > 0 || q.folders + q.others === 0 ? some(q.files, 'file') : '', q.others ? some(q.others, 'link or device') : '', q.folders ? some(q.folders, 'folder') : ''].filter(Boolean)
  return `${parts.join(' and ')}, ${bytes(q.bytes)}`
}

const countOf = (q: Quantity) => (q.folders + q.others === 0 ? some(q.files, 'file') : some(q.files + q.folders + q.others, 'entry'))

export function RemoveDialog({ entries, onClose }: { entries: Entry[]; onClose: () => void }) {
  const addresses = entries.map((entry) => entry.address)
  const freshen = useFreshen()
  const picks = usePicks()
  const plan = useQuery({
    queryKey: ['removal', addresses],
    queryFn: ({ signal }) => data(api.POST('/api/v1/removals/plans', { body: { addresses }, signal })),
    retry: false,
    staleTime: 0,
    gcTime: 0,
  })
  const remove = useMutation({
    mutationFn: (agreed: Quantity) => data(api.POST('/api/v1/removals', { body: { addresses, agreed } })),
    onSettled: freshen,
    onSuccess: (removed) => {
      picks.clear()
      if (removed.kept === 0) onClose()
    },
  })
  const agreed = plan.data && { files: plan.data.files, folders: plan.data.folders, others: plan.data.others, bytes: plan.data.bytes }
  return (
    <Dialog
      open
      onClose={onClose}
      title={entries.length === 1 ? `Remove ${plain(entries[0]!.name)}?` : `Remove ${some(entries.length, 'entry')}?`}
      description={
        plan.data
          ? `${quantity(plan.data)}. ${plan.data.trash ? 'It can be restored from the provider’s trash.' : 'It cannot be restored.'}`
          : 'Counting…'
      }
    >
      <form className="grid gap-4" onSubmit={(event) => (event.preventDefault(), agreed && remove.mutate(agreed))}>
        {entries.length > 1 && (
          <ul className="max-h-40 overflow-auto font-mono text-small text-soft" tabIndex={0} aria-label="To be deleted">
            {addresses.map((address) => (
              <li key={address} className="break-all">
                {plain(address)}
              </li>
            ))}
          </ul>
        )}
        {plan.isError && <Failed error={plan.error} />}
        {remove.isError && <Failed error={remove.error} />}
        {remove.data && remove.data.kept > 0 ? (
          <Kept removed={remove.data} onClose={onClose} />
        ) : (
          <Buttons danger onClose={onClose} verb={remove.isPending ? 'Deleting…' : agreed ? `Delete ${countOf(agreed)}` : 'Delete'} disabled={!agreed || remove.isPending} />
        )}
      </form>
    </Dialog>
  )
}

function Kept({ removed, onClose }: { removed: Removed; onClose: () => void }) {
  return (
    <div className="grid gap-3">
      <p>Removed {quantity(removed)}.</p>
      <div role="alert" className="border-l-2 border-brick pl-4">
        <p className="text-brick">{some(removed.kept, 'entry')} could not be deleted.</p>
        <ul>
          {removed.failed.slice(0, 10).map((failure) => (
            <li key={failure.address} className="mt-1">
              <span className="font-mono text-small break-all">{plain(failure.address)}</span>
              <br />
              {failure.why}. {failure.remedy}
            </li>
          ))}
        </ul>
      </div>
      <div className="flex justify-end">
        <Button onClick={onClose}>Close</Button>
      </div>
    </div>
  )
}

/** Where the tree leads to an entry. */
export const openLink = (entry: Entry) => filesLink(entry.kind === 'folder' ? entry.address : parent(entry.address))
