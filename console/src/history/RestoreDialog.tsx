import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, data } from '../api/client'
import { Summary } from '../files/CopyDialog'
import { TargetField } from '../files/TargetField'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Choice } from '../ui/Choice'
import { Dialog } from '../ui/Dialog'
import { plain, some, when } from '../ui/format'
import { useSettled } from '../ui/settled'

const places = [
  { value: 'there', title: 'Where it was', help: 'what is there now becomes a version first, so that the restore can be taken back' },
  { value: 'elsewhere', title: 'Elsewhere', help: 'into a folder of your choice' },
]

/** What a restore would do, before it starts. */
export function RestoreDialog({ address, file, at, onClose }: { address: string; file?: boolean; at: string; onClose: () => void }) {
  const navigate = useNavigate()
  const [where, setWhere] = useState('there')
  const [to, setTo] = useState('')
  const [exact, setExact] = useState(false)
  const body = { address, at, ...(where === 'elsewhere' ? { to } : { exact }) }
  const request = JSON.stringify(body)
  const asked = useSettled(request)
  const ready = where === 'there' || /^\/[a-z0-9-]+/.test(to)
  const plan = useQuery({
    queryKey: ['restore plan', asked],
    queryFn: ({ signal }) => data(api.POST('/api/v1/restores/plans', { body: JSON.parse(asked) as typeof body, signal })),
    enabled: asked === request && ready,
    retry: false,
    staleTime: 0,
    gcTime: 0,
  })
  const start = useMutation({
    mutationFn: () => data(api.POST('/api/v1/restores', { body })),
    onSuccess: (started) => void navigate(`/runs/${started.run}`),
  })
  const settled = asked === request && ready
  const name = plain(address.split('/').pop() ?? address)
  const n = plan.data ? plan.data.moving.items + plan.data.folders : 0
  return (
    <Dialog open onClose={onClose} title={`Restore ${name}`} description={`As it was at ${when(at)}. What is restored is verified.`}>
      <form className="grid gap-4" onSubmit={(event) => (event.preventDefault(), settled && plan.data && start.mutate())}>
        <Choice legend="Restore to" value={where} onChange={setWhere} choices={places} />
        {where === 'elsewhere' && <TargetField label="Into the folder" value={to} onChange={setTo} />}
        {where === 'there' && !file && (
          <label className="flex items-center gap-2">
          <Checkbox checked={exact} onChange={setExact} label="Also move to history what came since" />
          <span aria-hidden="true">Also move to history what came since</span>
        </label>
        )}
        <div aria-live="polite" className="min-h-12">
          {start.isError ? (
            <Failed error={start.error} />
          ) : plan.isError && settled ? (
            <Failed error={plan.error} />
          ) : plan.data && settled ? (
            <Summary plan={{ ...plan.data, makes: [] }} />
          ) : (
            <p className="text-soft">{ready ? 'Comparing then and now…' : 'Choose a folder to see the plan.'}</p>
          )}
        </div>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Close</Button>
          <Button look="first" type="submit" disabled={!settled || !plan.data || start.isPending}>
            {plan.data && settled ? `Restore ${some(n, 'item')}` : 'Restore'}
          </Button>
        </div>
      </form>
    </Dialog>
  )
}
