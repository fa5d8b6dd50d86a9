import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api, data } from '../api/client'
import { useAccounts } from '../accounts/queries'
import { Button } from '../ui/Button'
import { Field } from '../ui/Field'
import { Notifications } from './Notifications'
import { BandwidthHours } from '../ui/BandwidthHours'
import type { Limits } from '../ui/hours'
import { Failed } from '../ui/Banner'

/** How fast bytes may move, of everything and of each account. */
export function SettingsPage() {
  useEffect(() => {
    document.title = 'Settings · Deft Heron'
  }, [])
  const limits = useQuery({ queryKey: ['bandwidth'], queryFn: () => data(api.GET('/api/v1/bandwidth')) })
  const accounts = useAccounts()
  if (limits.isError) return <Failed error={limits.error} />
  if (!limits.data || !accounts.data) return <p className="py-6 text-soft">Looking…</p>
  return (
    <div className="min-h-0 flex-1 overflow-auto py-3">
      <h1 className="text-title font-semibold">Bandwidth</h1>
      <p className="max-w-3xl text-soft">
        Bandwidth limits up to providers and down from them. They take effect at once. Hours are those of the service’s time zone.
      </p>
      <Row title="Everything" account="" limits={limits.data.overall} />
      {accounts.data.map((account) => (
        <Row key={account.name} title={account.address} account={account.name} limits={limits.data.accounts[account.name] ?? {}} />
      ))}
      <AtOnce />
      <Notifications />
    </div>
  )
}

/** How many runs move at once. */
function AtOnce() {
  const client = useQueryClient()
  const kept = useQuery({ queryKey: ['runs at once'], queryFn: () => data(api.GET('/api/v1/runs-at-once')) })
  const [given, setGiven] = useState<string>()
  const save = useMutation({
    mutationFn: (runs: number) => data(api.PUT('/api/v1/runs-at-once', { body: { runs } })),
    onSuccess: () => {
      setGiven(undefined)
      void client.invalidateQueries({ queryKey: ['runs at once'] })
    },
  })
  const text = given ?? kept.data?.runs.toString() ?? ''
  return (
    <form
      aria-label="Runs at once"
      className="flex flex-wrap items-end gap-4 border-t border-line py-3"
      onSubmit={(event) => {
        event.preventDefault()
        save.mutate(Number(text))
      }}
    >
      <Field label="Runs at once; others are queued, by priority" inputMode="numeric" value={text} onChange={(event) => setGiven(event.target.value.replace(/\D/g, ''))} />
      <Button look={given !== undefined ? 'first' : undefined} type="submit" disabled={!given || save.isPending}>
        Set the number
      </Button>
      {save.isError && <Failed error={save.error} />}
    </form>
  )
}

function Row({ title, account, limits }: { title: string; account: string; limits: Limits }) {
  const client = useQueryClient()
  const [up, setUp] = useState(limits.up ?? '')
  const [down, setDown] = useState(limits.down ?? '')
  const [hours, setHours] = useState(limits.hours)
  const save = useMutation({
    mutationFn: () => {
      const body = { up: up || undefined, down: down || undefined, hours: hours?.filter((one) => one.when || one.rate) }
      return account ? data(api.PUT('/api/v1/accounts/{name}/bandwidth', { params: { path: { name: account } }, body })) : data(api.PUT('/api/v1/bandwidth', { body }))
    },
    onSuccess: () => void client.invalidateQueries({ queryKey: ['bandwidth'] }),
  })
  const changed = up !== (limits.up ?? '') || down !== (limits.down ?? '') || JSON.stringify(hours ?? []) !== JSON.stringify(limits.hours ?? [])
  return (
    <form
      aria-label={`Bandwidth of ${title}`}
      className="border-t border-line py-3"
      onSubmit={(event) => {
        event.preventDefault()
        save.mutate()
      }}
    >
      <div className="grid items-start gap-4 md:grid-cols-[180px_140px_140px_minmax(0,1fr)_auto]">
        <h2 className={account ? 'pt-6 font-mono text-small break-all' : 'pt-5'}>{title}</h2>
        <Field label="Up" placeholder="unlimited" value={up} onChange={(event) => setUp(event.target.value)} />
        <Field label="Down" placeholder="unlimited" value={down} onChange={(event) => setDown(event.target.value)} />
        <BandwidthHours value={hours} onChange={setHours} />
        <div className="pt-6">
          <Button look={changed ? 'first' : undefined} type="submit" disabled={!changed || save.isPending}>
            Set
          </Button>
        </div>
      </div>
      {save.isError && <Failed error={save.error} />}
      {save.isSuccess && !changed && (
        <p role="status" className="pt-1 text-small text-reed">
          In force.
        </p>
      )}
    </form>
  )
}
