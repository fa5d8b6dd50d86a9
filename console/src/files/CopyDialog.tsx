import { useMutation, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useNavigate } from 'react-router'
import { api, data, type Entry, type Plan } from '../api/client'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { bytes, count, duration, plain, some } from '../ui/format'
import { Failed } from '../ui/Banner'
import { useSettled } from '../ui/settled'
import { type Settings, RulesForm } from './Rules'
import { keepTarget } from './recent'
import { TargetField } from './TargetField'

/** Where to, what on a conflict, and what that comes to, before anything starts. */
export function CopyDialog({ entries, into = '', onClose }: { entries: Entry[]; into?: string; onClose: () => void }) {
  const navigate = useNavigate()
  const [to, setTo] = useState(into)
  const [settings, setSettings] = useState<Settings>({})
  const from = entries.map((entry) => entry.address)
  const request = JSON.stringify({ from, to, ...settings })
  const asked = useSettled(request)
  const plan = useQuery({
    queryKey: ['plan', asked],
    queryFn: ({ signal }) => data(api.POST('/api/v1/plans', { body: JSON.parse(asked), signal })),
    enabled: asked === request && /^\/[a-z0-9-]+/.test(to),
    retry: false,
    staleTime: 0,
    gcTime: 0,
  })
  const start = useMutation({
    mutationFn: () => data(api.POST('/api/v1/copies', { body: { from, to, ...settings } })),
    onSuccess: (started) => {
      keepTarget(to)
      void navigate(`/runs/${started.run}`)
    },
  })
  const what = entries.length === 1 ? plain(entries[0]!.name) : some(entries.length, 'entry')
  const settled = asked === request
  const noSpace = plan.data?.blockers.some((blocker) => blocker.cause === 'no-space')
  return (
    <Dialog open onClose={onClose} title={`Copy ${what}`} description="Each appears in the target folder under its own name. Files that are up to date are skipped, and nothing is deleted.">
      <form
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault()
          if (settled && plan.data && !noSpace) start.mutate()
        }}
      >
        <TargetField label="Into the folder" value={to} onChange={setTo} />
        <RulesForm settings={settings} onChange={setSettings} />
        <div aria-live="polite" className="min-h-12">
          {start.isError ? (
            <Failed error={start.error} />
          ) : plan.isError && settled ? (
            <Failed error={plan.error} />
          ) : plan.data && settled ? (
            <Summary plan={plan.data} />
          ) : (
            <p className="text-soft">{to ? 'Comparing both sides…' : 'Choose a target folder to see the plan.'}</p>
          )}
        </div>
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Close</Button>
          <Button look="first" type="submit" disabled={!plan.data || !settled || noSpace || start.isPending}>
            {plan.data && settled ? `Copy ${some(plan.data.moving.items + plan.data.folders, 'item')}` : 'Copy'}
          </Button>
        </div>
      </form>
    </Dialog>
  )
}

/** A target that is not there yet: a run makes it, and so can a person. */
function Missing({ address }: { address: string }) {
  const make = useMutation({ mutationFn: () => data(api.POST('/api/v1/folders', { body: { address, parents: true } })) })
  if (make.isError) return <Failed error={make.error} />
  return (
    <p>
      <span className="font-mono text-small break-all">{plain(address)}</span> {make.isSuccess ? 'was created.' : 'does not exist yet. The first run creates it, or: '}
      {!make.isSuccess && (
        <Button look="quiet" disabled={make.isPending} onClick={() => make.mutate()}>
          Create it now
        </Button>
      )}
    </p>
  )
}

function Examples({ title, addresses }: { title: string; addresses: string[] }) {
  return (
    <div>
      <h3 className="text-small text-soft">{title}</h3>
      <ul className="font-mono text-small">
        {addresses.length === 0 && <li>none</li>}
        {addresses.map((address) => (
          <li key={address} className="wrap-anywhere">
            {plain(address)}
          </li>
        ))}
      </ul>
    </div>
  )
}

export function Summary({ plan }: { plan: Plan }) {
  const copied = plan.create.items - plan.moved.items - plan.twice.items
  const lines: [number, string, string][] = [
    [copied, `${some(copied, 'file')} to copy`, bytes(plan.create.bytes - plan.moved.bytes - plan.twice.bytes)],
    [plan.alike.items, `${some(plan.alike.items, 'file')} of these have the size of another and are copied unless identical`, bytes(plan.alike.bytes)],
    [plan.twice.items, `${some(plan.twice.items, 'file')} identical to others and kept once`, bytes(plan.twice.bytes)],
    [plan.replace.items, `${some(plan.replace.items, 'file')} changed at the source, to replace`, bytes(plan.replace.bytes)],
    [plan.keep_both.items, `${some(plan.keep_both.items, 'conflict')} to keep both`, bytes(plan.keep_both.bytes)],
    [plan.ask.items, `${some(plan.ask.items, 'conflict')} to ask about`, bytes(plan.ask.bytes)],
    [plan.left.items, `${some(plan.left.items, 'conflict')} to leave`, bytes(plan.left.bytes)],
    [plan.excluded.items, `${some(plan.excluded.items, 'file')} excluded`, bytes(plan.excluded.bytes)],
    [plan.folders_excluded, `${some(plan.folders_excluded, 'folder')} excluded`, ''],
    [plan.inside.items, `${some(plan.inside.items, 'file')} of these copied inside the target`, bytes(plan.inside.bytes)],
    [plan.translated.items, `${some(plan.translated.items, 'name')} of these translated`, ''],
    [plan.look.items, `${some(plan.look.items, 'file')} to compare by content first`, bytes(plan.look.bytes)],
    ...plan.exports.map((one): [number, string, string] => [one.items, `${some(one.items, `${one.document} document`)} of these exported as ${one.format}`, '']),
    [plan.folders, `${some(plan.folders, plan.type === 'two-way' ? 'folder' : 'empty folder')} to create`, ''],
    [plan.moved.items, `${some(plan.moved.items, 'file')} to move, moved or renamed`, bytes(plan.moved.bytes)],
    [plan.remove.items - plan.moved.items, `${some(plan.remove.items - plan.moved.items, 'file')} to delete`, bytes(plan.remove.bytes - plan.moved.bytes)],
    [plan.folders_removed, `${some(plan.folders_removed, 'folder')} to delete`, ''],
    [plan.skipped.items, `${some(plan.skipped.items, 'link or device')} to skip`, ''],
    [plan.unchanged.items, `${count(plan.unchanged.items)} up to date`, bytes(plan.unchanged.bytes)],
    [plan.assumed.items, `${count(plan.assumed.items)} of them by size and time only`, bytes(plan.assumed.bytes)],
  ]
  const shown = lines.filter(([n]) => n > 0)
  return (
    <div className="grid gap-3">
      <ul className="font-mono text-small text-soft">
        {plan.routes.slice(0, 4).map((route) => (
          <li key={route.to} className="break-words">
            {plain(route.from)} → {plain(route.to)}
          </li>
        ))}
        {plan.routes.length > 4 && <li>and {count(plan.routes.length - 4)} more</li>}
      </ul>
      <table className="w-full">
        <tbody>
          {shown.map(([, what, size]) => (
            <tr key={what} className="border-t border-line">
              <td className="py-1">{what}</td>
              <td className="py-1 text-right whitespace-nowrap">{size}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {shown.length === 0 && <p>There is nothing to copy.</p>}
      {plan.makes.map((address) => (
        <Missing key={address} address={address} />
      ))}
      {(plan.excluded.items > 0 || plan.folders_excluded > 0) && (
        <div>
          <p>
            The filters take {count(plan.taken.items)} of {some(plan.taken.items + plan.excluded.items, 'file')}, {bytes(plan.taken.bytes)}
            {plan.folders_excluded > 0 && `, and exclude ${some(plan.folders_excluded, 'folder')} with everything in them`}.
          </p>
          <details>
            <summary className="cursor-pointer text-plumage">Examples</summary>
            <div className="grid gap-x-6 sm:grid-cols-2">
              <Examples title="Taken" addresses={plan.taken_first} />
              <Examples title="Excluded" addresses={plan.excluded_first} />
            </div>
          </details>
        </div>
      )}
      {plan.held && (
        <p className="border-l-2 border-ochre pl-4 text-ochre">
          A run would be held: {plan.held.why}.
        </p>
      )}
      {plan.removals.length > 0 && (
        <details>
          <summary className="cursor-pointer text-brick">Files to delete</summary>
          <ul className="mt-1 max-h-60 overflow-auto border-l-2 border-brick pl-4 font-mono text-small">
            {plan.removals.map((address) => (
              <li key={address} className="break-all">
                {plain(address)}
              </li>
            ))}
            {plan.remove.items > plan.removals.length && <li>and {count(plan.remove.items - plan.removals.length)} more</li>}
          </ul>
        </details>
      )}
      {plan.names.length > 0 && (
        <ul className="border-l-2 border-dusk pl-4 font-mono text-small">
          {plan.names.slice(0, 3).map((name) => (
            <li key={name.address} className="break-all">
              {plain(name.address)} → <span className="text-dusk">{plain(name.target)}</span>
            </li>
          ))}
        </ul>
      )}
      {plan.moving.items > 0 && (
        <p className="text-small text-soft">
          {plan.seconds >= 0 ? `${plan.seconds < 1 ? 'Under 1 s' : `About ${duration(plan.seconds)}`}, estimated from ${plan.basis}.` : 'The duration is unknown. Measure the speed of the accounts on their pages for an estimate.'}{' '}
          {plan.requests.length > 0 && `About ${plan.requests.map((one, i) => `${i === 0 ? some(one.requests, 'request') : count(one.requests)} to /${one.account}`).join(' and ')}. `}
          {plan.verification.map((one) => `Verification at /${one.account}: ${one.how}.`).join(' ')} {plan.ways?.join(' ')} {plan.free >= 0 && `The target has ${bytes(plan.free)} free.`}
        </p>
      )}
      {plan.blockers.length > 0 && (
        <div className="border-l-2 border-brick pl-4">
          {plan.refused.items > 0 && <p className="text-brick">{some(plan.refused.items, 'item')} are not allowed at the target and will fail.</p>}
          <ul>
            {plan.blockers.slice(0, 5).map((blocker) => (
              <li key={blocker.address} className="mt-1">
                <span className="font-mono text-small break-all">{plain(blocker.address)}</span>
                <br />
                {blocker.why}. {blocker.remedy}
              </li>
            ))}
          </ul>
        </div>
      )}
    </div>
  )
}
