import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, data, type Run } from '../api/client'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { Field } from '../ui/Field'
import { bytes, some } from '../ui/format'
import { Failed } from '../ui/Banner'

/** What a person can do about a run that is held. */
export function Held({ run }: { run: Run }) {
  if (run.needs === 'decision' || run.needs === 'approval') return null // in the list of what waits
  if (run.needs === 'space') return <GoOn run={run} />
  return (
    <Link to="/accounts" className="inline-flex h-8 items-center rounded-md border border-plumage bg-plumage px-3 text-panel hover:opacity-90">
      Go to the accounts
    </Link>
  )
}

export function useApprove(run: Run) {
  return useMutation({
    mutationFn: (conflict: string) => data(api.POST('/api/v1/runs/{id}/approve', { params: { path: { id: run.id } }, body: conflict ? { conflict } : {} })),
  })
}

/** What the safety limits held is let go only after its count was read. */
export function LetGo({ run }: { run: Run }) {
  const [asking, setAsking] = useState(false)
  const release = useApprove(run)
  return (
    <>
      <Button look="first" onClick={() => setAsking(true)}>
        Approve…
      </Button>
      <Dialog
        open={asking}
        onClose={() => setAsking(false)}
        title="Approve this run?"
        description={`${some(run.items.waiting, 'item')} wait, of which ${some(run.removing.items, 'file')} (${bytes(run.removing.bytes)}) would be deleted. If the job keeps versions, deleted files can be restored from history.`}
      >
        <div className="grid gap-4">
          {release.isError && <Failed error={release.error} />}
          <div className="flex justify-end gap-2">
            <Button onClick={() => setAsking(false)}>Cancel</Button>
            <Button look="first" disabled={release.isPending} onClick={() => release.mutate('', { onSuccess: () => setAsking(false) })}>
              {run.removing.items > 0 ? `Delete ${some(run.removing.items, 'file')}` : `Transfer ${some(run.items.waiting, 'item')}`}
            </Button>
          </div>
        </div>
      </Dialog>
    </>
  )
}

function GoOn({ run }: { run: Run }) {
  const release = useApprove(run)
  return (
    <div>
      <Button look="first" disabled={release.isPending} onClick={() => release.mutate('')}>
        Try again now
      </Button>
      {release.isError && <Failed error={release.error} />}
    </div>
  )
}

/** The limits of a run, which hold at once. */
export function Bandwidth({ run }: { run: Run }) {
  const [open, setOpen] = useState(false)
  const [up, setUp] = useState(run.bandwidth?.up ?? '')
  const [down, setDown] = useState(run.bandwidth?.down ?? '')
  const save = useMutation({
    mutationFn: () =>
      data(api.PUT('/api/v1/runs/{id}/bandwidth', { params: { path: { id: run.id } }, body: { up: up || undefined, down: down || undefined, hours: run.bandwidth?.hours } })),
    onSuccess: () => setOpen(false),
  })
  return (
    <>
      <Button onClick={() => setOpen(true)}>Bandwidth…</Button>
      <Dialog open={open} onClose={() => setOpen(false)} title="Bandwidth limits of this run" description="Limits take effect at once. Leave a field empty for no limit.">
        <form
          className="grid gap-4"
          onSubmit={(event) => {
            event.preventDefault()
            save.mutate()
          }}
        >
          <Field label="Bandwidth limit up" placeholder="20MB/s" value={up} onChange={(event) => setUp(event.target.value)} />
          <Field label="Bandwidth limit down" placeholder="20MB/s" value={down} onChange={(event) => setDown(event.target.value)} />
          {save.isError && <Failed error={save.error} />}
          <div className="flex justify-end gap-2">
            <Button onClick={() => setOpen(false)}>Close</Button>
            <Button look="first" type="submit" disabled={save.isPending}>
              Save
            </Button>
          </div>
        </form>
      </Dialog>
    </>
  )
}
