import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Field, SelectField } from '../ui/Field'
import { when } from '../ui/format'
import { Failed } from '../ui/Banner'

type Settings = components['schemas']['Notifications']

const events = [
  { value: 'done', title: 'a run is done' },
  { value: 'partial', title: 'items failed' },
  { value: 'failed', title: 'a run failed' },
  { value: 'held', title: 'a run is held' },
  { value: 'waits', title: 'a migration waits' },
  { value: 'account', title: 'an account needs attention' },
]
const usual = events.map((event) => event.value).filter((event) => event !== 'done')

/** Notifications what happened: by mail, by webhooks, and in which hours not. */
export function Notifications() {
  const settings = useQuery({ queryKey: ['notifications', 'settings'], queryFn: () => data(api.GET('/api/v1/notifications/settings')) })
  return (
    <section aria-label="Notifications" className="pb-8">
      <h1 className="text-title font-semibold">Notifications</h1>
      <p className="max-w-3xl text-soft">By email, and by webhooks that are signed (RFC 9421). Deliveries are retried for a day.</p>
      {settings.isError && <Failed error={settings.error} />}
      {settings.data && <Form key={JSON.stringify(settings.data)} kept={settings.data} />}
      <Latest />
    </section>
  )
}

function Form({ kept }: { kept: Settings }) {
  const client = useQueryClient()
  const [settings, setSettings] = useState(kept)
  const mail = settings.email
  const save = useMutation({
    mutationFn: () => data(api.PUT('/api/v1/notifications/settings', { body: settings })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['notifications'] }),
  })
  const test = useMutation({ mutationFn: () => data(api.POST('/api/v1/notifications/test')), onSettled: () => void client.invalidateQueries({ queryKey: ['notifications', 'latest'] }) })
  const setMail = (change: Partial<NonNullable<Settings['email']>>) => setSettings({ ...settings, email: { server: '', from: '', to: [], ...settings.email, ...change } })
  const setHook = (at: number, change: Partial<Settings['webhooks'][number]>) => setSettings({ ...settings, webhooks: settings.webhooks.map((hook, i) => (i === at ? { ...hook, ...change } : hook)) })
  const changed = JSON.stringify(settings) !== JSON.stringify(kept)
  return (
    <form
      className="grid max-w-4xl gap-4 py-3"
      onSubmit={(event) => {
        event.preventDefault()
        save.mutate()
      }}
    >
      {settings.email === undefined && settings.webhooks.length === 0 && <p>Notifications are off. Add an email address or a webhook.</p>}
      {mail && (
      <fieldset className="grid gap-2 sm:grid-cols-3">
        <legend className="font-semibold">Mail</legend>
        <Field label="Server and port" placeholder="mail.example.org:587" mono value={mail?.server ?? ''} onChange={(event) => setMail({ server: event.target.value })} />
        <Field label="From" placeholder="heron@example.org" mono value={mail?.from ?? ''} onChange={(event) => setMail({ from: event.target.value })} />
        <Field label="To, separated by commas" placeholder="storage@example.org" mono value={(mail?.to ?? []).join(', ')} onChange={(event) => setMail({ to: event.target.value.split(',').map((to) => to.trim()) })} />
        <SelectField label="Encryption" value={mail?.tls || 'starttls'} onChange={(tls) => setMail({ tls })} choices={[{ value: 'starttls', title: 'STARTTLS' }, { value: 'implicit', title: 'implicit TLS' }, { value: 'none', title: 'none' }]} />
        <Field label="User" mono value={mail?.user ?? ''} onChange={(event) => setMail({ user: event.target.value || undefined })} />
        <Field label="Password" type="password" placeholder={kept.email?.user ? 'unchanged' : ''} value={mail?.password ?? ''} onChange={(event) => setMail({ password: event.target.value || undefined })} />
        <On label="Mail when" on={mail.on} onChange={(on) => setMail({ on })} />
      </fieldset>
      )}
      {settings.webhooks.map((hook, i) => (
        <fieldset key={i} className="grid gap-2 sm:grid-cols-3">
          <legend className="font-semibold">Webhook</legend>
          <Field label="URL" placeholder="https://example.org/told" mono className="sm:col-span-2" value={hook.url} onChange={(event) => setHook(i, { url: event.target.value })} />
          <Field label="Signing secret" type="password" placeholder={kept.webhooks[i] ? 'unchanged' : ''} value={hook.secret ?? ''} onChange={(event) => setHook(i, { secret: event.target.value || undefined })} />
          <On label={`Tell webhook ${i + 1} when`} on={hook.on} onChange={(on) => setHook(i, { on })} />
          <div>
            <Button onClick={() => setSettings({ ...settings, webhooks: settings.webhooks.filter((_, n) => n !== i) })}>Remove the webhook</Button>
          </div>
        </fieldset>
      ))}
      {(mail || settings.webhooks.length > 0) && (
      <fieldset className="grid gap-2 sm:grid-cols-3">
        <legend className="font-semibold">When</legend>
        <Field label="Quiet hours" placeholder="mon-sun 22:00-07:00" mono value={settings.quiet ?? ''} onChange={(event) => setSettings({ ...settings, quiet: event.target.value || undefined })} />
        <Field label="Email digest interval" placeholder="none; or 1h" mono value={settings.digest ?? ''} onChange={(event) => setSettings({ ...settings, digest: event.target.value || undefined })} />
        <Field label="Time zone" placeholder="the service’s own" mono value={settings.zone ?? ''} onChange={(event) => setSettings({ ...settings, zone: event.target.value || undefined })} />
      </fieldset>
      )}
      {save.isError && <Failed error={save.error} />}
      <div className="flex flex-wrap gap-2">
        <Button look="first" type="submit" disabled={!changed || save.isPending}>
          Save
        </Button>
        {mail ? <Button onClick={() => setSettings({ ...settings, email: undefined })}>Remove the email</Button> : <Button onClick={() => setMail({})}>Add email</Button>}
        <Button onClick={() => setSettings({ ...settings, webhooks: [...settings.webhooks, { url: '' }] })}>{settings.webhooks.length > 0 ? 'Another webhook' : 'Add a webhook'}</Button>
        <Button disabled={changed || test.isPending || (!kept.email && kept.webhooks.length === 0)} onClick={() => test.mutate()}>
          Send a test
        </Button>
      </div>
      {test.isError && <Failed error={test.error} />}
      {test.data && (
        <ul role="status">
          {test.data.channels.map((one) => (
            <li key={one.channel} className={one.sent ? 'text-reed' : 'text-brick'}>
              {one.channel}: {one.sent ? 'sent' : `not sent: ${one.why}`}
            </li>
          ))}
        </ul>
      )}
    </form>
  )
}

function On({ label, on, onChange }: { label: string; on: string[] | null | undefined; onChange: (on: string[] | undefined) => void }) {
  const chosen = on?.length ? on : usual
  return (
    <div role="group" aria-label={label} className="flex flex-wrap gap-x-4 gap-y-1 sm:col-span-3">
      <span className="text-small text-soft">{label}</span>
      {events.map((event) => {
        const is = chosen.includes(event.value)
        return (
          <span key={event.value} className="flex items-center gap-2 text-small">
            <Checkbox checked={is} label={`${label} ${event.title}`} onChange={() => onChange(is ? chosen.filter((other) => other !== event.value) : [...chosen, event.value])} />
            {event.title}
          </span>
        )
      })}
    </div>
  )
}

/** What was sent last, and what could not be. */
function Latest() {
  const latest = useQuery({ queryKey: ['notifications', 'latest'], queryFn: () => data(api.GET('/api/v1/notifications', { params: { query: { limit: 10 } } })), refetchInterval: 10_000 })
  const all = latest.data?.notifications ?? []
  if (all.length === 0) return null
  return (
    <table className="w-full max-w-4xl">
      <thead className="text-left text-small text-soft">
        <tr className="border-b border-line">
          <th className="py-1 pr-4 font-normal">Told last</th>
          <th className="py-1 pr-4 font-normal">By</th>
          <th className="py-1 font-normal">State</th>
        </tr>
      </thead>
      <tbody>
        {all.map((one) => (
          <tr key={one.at + one.channel} className="border-b border-line">
            <td className="py-1 pr-4">
              {one.subject} <span className="whitespace-nowrap text-soft">{when(one.at)}</span>
            </td>
            <td className="py-1 pr-4 font-mono text-small break-all">{one.channel}</td>
            <td className={one.state === 'sent' ? 'py-1 text-reed' : 'py-1 text-ochre'}>
              {one.state}
              {one.why && <span className="text-soft">, {one.why}</span>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  )
}
