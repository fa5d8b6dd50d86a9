import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useSearchParams } from 'react-router'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import { TargetField } from '../files/TargetField'
import { Empty, Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { Field, SelectField } from '../ui/Field'
import { bytes, count, plain, when } from '../ui/format'
import { ShownOnce } from '../ui/ShownOnce'
import { Skeleton } from '../ui/Skeleton'

type Link = components['schemas']['ShareLink']
type Mode = NonNullable<components['schemas']['NewShareLink']['mode']>

const modes: { value: Mode; title: string }[] = [
  { value: 'download', title: 'look at and download' },
  { value: 'view', title: 'look at only' },
  { value: 'drop-off', title: 'send files to the folder' },
]

const times = [
  { value: '1d', title: 'a day' },
  { value: '7d', title: 'a week' },
  { value: '30d', title: '30 days' },
  { value: '6mo', title: '6 months' },
  { value: '1y', title: 'a year' },
]

/** Links for people without an account. */
export function SharesPage() {
  const client = useQueryClient()
  const [search, setSearch] = useSearchParams()
  const making = search.get('new')
  const settings = useQuery({ queryKey: ['share settings'], queryFn: () => data(api.GET('/api/v1/share-settings')) })
  const links = useQuery({ queryKey: ['share links'], queryFn: () => data(api.GET('/api/v1/share-links')) })
  const [shown, setShown] = useState('')
  const revoke = useMutation({
    mutationFn: (id: string) => api.DELETE('/api/v1/share-links/{id}', { params: { path: { id } } }),
    onSettled: () => void client.invalidateQueries({ queryKey: ['share links'] }),
  })
  const turn = useMutation({
    mutationFn: (enabled: boolean) => data(api.PUT('/api/v1/share-settings', { body: { enabled } })),
    onSettled: () => void client.invalidateQueries({ queryKey: ['share settings'] }),
  })
  const on = settings.data?.enabled ?? false
  return (
    <>
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-title font-semibold">Share links</h1>
        <div className="flex gap-2">
          {settings.data && (
            <Button disabled={turn.isPending} onClick={() => turn.mutate(!on)}>
              {on ? 'Switch off' : 'Switch on'}
            </Button>
          )}
          <Button look="first" disabled={!on} onClick={() => setSearch({ new: '/' })}>
            Create a link
          </Button>
        </div>
      </div>
      <p className="max-w-3xl text-soft">
        A link lets somebody without an account open a file or folder, or send files to a folder. It has the grants of who made it.
        {settings.data && !on && ' Share links are switched off: none can be made, and those that are there open nothing.'}
      </p>
      {[links, settings, revoke, turn].map((one, i) => one.isError && <Failed key={i} error={one.error} />)}
      {links.isPending && <Skeleton rows={3} />}
      {links.data?.length === 0 && <Empty>There is no link yet.</Empty>}
      {links.data && links.data.length > 0 && (
        <table className="mt-2 w-full max-w-6xl">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-4 font-normal">Shared</th>
              <th className="py-1 pr-4 font-normal">State</th>
              <th className="hidden py-1 pr-4 font-normal sm:table-cell">To</th>
              <th className="py-1 pr-4 text-right font-normal">Opened</th>
              <th className="hidden py-1 pr-4 font-normal sm:table-cell">Expires</th>
              <th className="hidden py-1 pr-4 font-normal md:table-cell">By</th>
              <th className="py-1 font-normal">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {links.data.map((link) => (
              <tr key={link.id} className="border-b border-line align-baseline">
                <td className="py-1 pr-4">
                  <span className="font-mono text-small wrap-anywhere">{plain(link.address)}</span>
                  {link.note && <span className="block text-small text-soft wrap-anywhere">{plain(link.note)}</span>}
                </td>
                <td className={`py-1 pr-4 whitespace-nowrap ${link.state === 'active' ? 'text-reed' : 'text-soft'}`}>
                  {link.state === 'used-up' ? 'used up' : link.state}
                  {link.password && <span className="text-small text-soft"> · password</span>}
                </td>
                <td className="hidden py-1 pr-4 sm:table-cell">{modes.find((mode) => mode.value === link.mode)?.title}</td>
                <td className="py-1 pr-4 text-right whitespace-nowrap">
                  {count(link.uses)}
                  {link.most_uses ? ` of ${count(link.most_uses)}` : ''}
                </td>
                <td className="hidden py-1 pr-4 text-small whitespace-nowrap sm:table-cell">{when(link.expires)}</td>
                <td className="hidden py-1 pr-4 md:table-cell">{plain(link.by)}</td>
                <td className="py-1 text-right whitespace-nowrap">
                  <Button look="quiet" aria-label={`Uses of ${link.id}`} onClick={() => setShown(link.id)}>
                    Uses
                  </Button>
                  {link.state === 'active' && (
                    <Button look="quiet" aria-label={`Revoke ${link.id}`} disabled={revoke.isPending} onClick={() => revoke.mutate(link.id)}>
                      Revoke
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {making !== null && on && <CreateLink address={making === '/' ? '' : making} onClose={() => setSearch({})} />}
      {shown && <Uses id={shown} onClose={() => setShown('')} />}
    </>
  )
}

function CreateLink({ address, onClose }: { address: string; onClose: () => void }) {
  const client = useQueryClient()
  const [asked, setAsked] = useState({ address, mode: 'download' as Mode, for: '30d', password: '', uses: '', note: '' })
  const make = useMutation({
    mutationFn: () =>
      data(
        api.POST('/api/v1/share-links', {
          body: {
            address: asked.address, mode: asked.mode, for: asked.for,
            password: asked.password || undefined, note: asked.note || undefined, most_uses: Number(asked.uses) || undefined,
          },
        }),
      ),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['share links'] }),
  })
  return (
    <Dialog open onClose={onClose} title="Create a link" description={make.data ? 'Copy it now: it is shown this once.' : 'Whoever has the link can use it.'}>
      {make.data ? (
        <ShownOnce label="The link" text={make.data.url} copy="Copy the link" onDone={onClose} />
      ) : (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault()
            make.mutate()
          }}
        >
          <TargetField files label="File or folder" value={asked.address} onChange={(value) => setAsked({ ...asked, address: value })} />
          <div className="grid items-start gap-3 sm:grid-cols-2">
            <SelectField label="To" value={asked.mode} onChange={(value) => setAsked({ ...asked, mode: value as Mode })} choices={modes} />
            <SelectField label="Good for" value={asked.for} onChange={(value) => setAsked({ ...asked, for: value })} choices={times} />
            <Field label="Password (optional)" type="password" autoComplete="new-password" help="At least 8 characters." value={asked.password} onChange={(event) => setAsked({ ...asked, password: event.target.value })} />
            <Field label="Times it can be opened (optional)" inputMode="numeric" value={asked.uses} onChange={(event) => setAsked({ ...asked, uses: event.target.value.replace(/\D/g, '') })} />
          </div>
          <Field label="For whom (optional)" value={asked.note} onChange={(event) => setAsked({ ...asked, note: event.target.value })} />
          {make.isError && <Failed error={make.error} />}
          <div>
            <Button look="first" type="submit" disabled={!asked.address.startsWith('/') || make.isPending}>
              Create the link
            </Button>
          </div>
        </form>
      )}
    </Dialog>
  )
}

/** What a link was used for, the latest first. */
function Uses({ id, onClose }: { id: Link['id']; onClose: () => void }) {
  const link = useQuery({ queryKey: ['share links', id], queryFn: () => data(api.GET('/api/v1/share-links/{id}', { params: { path: { id } } })) })
  return (
    <Dialog open onClose={onClose} title="Uses of the link" description={link.data ? plain(link.data.address) : ''}>
      {link.isError && <Failed error={link.error} />}
      {link.data?.latest.length === 0 && <p className="text-soft">Nobody has used it yet.</p>}
      {link.data && link.data.latest.length > 0 && (
        <div className="max-h-96 overflow-auto" tabIndex={0}>
          <table className="w-full text-small">
            <thead className="text-left text-soft">
              <tr className="border-b border-line">
                <th className="py-1 pr-3 font-normal">When</th>
                <th className="py-1 pr-3 font-normal">From</th>
                <th className="py-1 pr-3 font-normal">What</th>
                <th className="py-1 pr-3 text-right font-normal">Size</th>
                <th className="py-1 font-normal">Name</th>
              </tr>
            </thead>
            <tbody>
              {link.data.latest.map((use, i) => (
                <tr key={i} className="border-b border-line align-baseline">
                  <td className="py-1 pr-3 whitespace-nowrap">{when(use.at)}</td>
                  <td className="py-1 pr-3">{use.from}</td>
                  <td className="py-1 pr-3">
                    {use.what === 'refused' ? 'wrong password' : use.what}
                    {use.times > 1 && ` × ${count(use.times)}`}
                  </td>
                  <td className="py-1 pr-3 text-right whitespace-nowrap">{use.bytes ? bytes(use.bytes) : ''}</td>
                  <td className="py-1 wrap-anywhere">{plain(use.name ?? '')}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Dialog>
  )
}
