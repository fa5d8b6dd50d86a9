import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import type { JobSpec } from '../jobs/queries'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Field } from '../ui/Field'
import { bytes, count, plain, some, when } from '../ui/format'
import { useSettled } from '../ui/settled'

type History = components['schemas']['History']
type Keep = NonNullable<History['keep']>

const rules: { key: keyof Omit<Keep, 'versions'>; label: string }[] = [
  { key: 'all', label: 'Every version for' },
  { key: 'hourly', label: 'One an hour for' },
  { key: 'daily', label: 'One a day for' },
  { key: 'weekly', label: 'One a week for' },
  { key: 'monthly', label: 'One a month for' },
]

/** Which versions a job keeps, and what a change of that would delete now. */
export function KeepFields({ spec, saved, onChange }: { spec: JobSpec; saved?: string; onChange: (history: History) => void }) {
  const history = spec.history ?? {}
  const keep = history.keep ?? {}
  const change = (part: Partial<History>) => onChange({ ...history, ...part })
  return (
    <details className="grid gap-3">
      <summary className="cursor-pointer">
        <span className="text-small text-soft">History</span> {sentence(history)} <span className="text-plumage">Change</span>
      </summary>
      <fieldset className="mt-3 grid gap-3">
      <legend className="sr-only">History</legend>
      <p className="text-small text-soft">What any of these rules keeps is kept. Without rules, every version is kept for as long as the service keeps history. Times are such as 36h, 30d, 8w, 6mo or 2y.</p>
      <div className="grid grid-cols-2 gap-3 sm:grid-cols-3">
        {rules.map(({ key, label }) => (
          <Field key={key} label={label} placeholder="not at all" value={keep[key] ?? ''} disabled={history.off} onChange={(event) => change({ keep: { ...keep, [key]: event.target.value || undefined } })} />
        ))}
        <Field
          label="The newest, of each file"
          placeholder="none"
          inputMode="numeric"
          value={keep.versions ? String(keep.versions) : ''}
          disabled={history.off}
          onChange={(event) => change({ keep: { ...keep, versions: Number(event.target.value) || undefined } })}
        />
        <Field label="Nobody can delete a version for" placeholder="not locked" value={history.locked ?? ''} disabled={history.off} onChange={(event) => change({ locked: event.target.value || undefined })} />
        <Field
          label="Rehearse a restore every"
          placeholder="never"
          value={history.rehearse?.every ?? ''}
          onChange={(event) => change({ rehearse: { ...history.rehearse, every: event.target.value || undefined } })}
        />
      </div>
      <label className="flex items-center gap-2">
          <Checkbox checked={history.off ?? false} onChange={(off) => onChange(off ? { off, rehearse: history.rehearse } : { rehearse: history.rehearse })} label="Keep no versions of what is overwritten" />
          <span aria-hidden="true">Keep no versions of what is overwritten</span>
        </label>
      {spec.type === 'copy' && (
        <label className="flex items-center gap-2">
          <Checkbox checked={history.additions_only ?? false} onChange={(only) => change({ additions_only: only || undefined })} label="Additions only: nothing at the target can be deleted through the service" />
          <span aria-hidden="true">Additions only: nothing at the target can be deleted through the service</span>
        </label>
      )}
      {saved && <Freed name={saved} history={history} />}
      </fieldset>
    </details>
  )
}

/** What rules for versions keep, in a sentence. */
function sentence(history: History): string {
  if (history.off) return 'No versions are kept of what is overwritten.'
  if (history.additions_only) return 'Every version is kept for good, and nothing at the target can be deleted through the service.'
  const keep = history.keep ?? {}
  const parts = [
    keep.all && `every version for ${keep.all}`,
    keep.hourly && `one an hour for ${keep.hourly}`,
    keep.daily && `one a day for ${keep.daily}`,
    keep.weekly && `one a week for ${keep.weekly}`,
    keep.monthly && `one a month for ${keep.monthly}`,
    keep.versions && `the newest ${keep.versions} of each file`,
  ].filter(Boolean)
  const kept = parts.length > 0 ? `Keeps ${parts.join(', ')}.` : 'Keeps every version for as long as the service keeps history.'
  return `${kept}${history.locked ? ` Nobody can delete a version for ${history.locked}.` : ''}${history.rehearse?.every ? ` A restore is rehearsed every ${history.rehearse.every}.` : ''}`
}

function Freed({ name, history }: { name: string; history: History }) {
  const body = JSON.stringify(history)
  const asked = useSettled(body)
  const freed = useQuery({
    queryKey: ['history freed', name, asked],
    queryFn: () => data(api.POST('/api/v1/jobs/{name}/history/plans', { params: { path: { name } }, body: JSON.parse(asked) as History })),
    retry: false,
  })
  if (freed.isError) return <Failed error={freed.error} />
  if (!freed.data || asked !== body || freed.data.versions === 0) return null
  return (
    <p className="text-small text-ochre">
      Now these rules would delete {some(freed.data.versions, 'version')} and free {bytes(freed.data.bytes)}. Locked versions stay.
    </p>
  )
}

/** The rehearsals of a job, and a button that begins one. */
export function RehearsalList({ job }: { job: string }) {
  const client = useQueryClient()
  const path = { params: { path: { name: job } } }
  const all = useQuery({
    queryKey: ['rehearsals', job],
    queryFn: () => data(api.GET('/api/v1/jobs/{name}/rehearsals', path)),
    refetchInterval: (query) => (query.state.data?.rehearsals.some((one) => one.state === 'running') ? 500 : false),
  })
  const begin = useMutation({
    mutationFn: () => data(api.POST('/api/v1/jobs/{name}/rehearsals', { ...path, body: {} })),
    onSettled: () => void client.invalidateQueries({ queryKey: ['rehearsals'] }),
  })
  if (!all.data) return null
  const [last] = all.data.rehearsals
  const failed = last?.outcomes.filter((one) => one.why) ?? []
  return (
    <section aria-label="Rehearsals" className="max-w-4xl pb-4">
      <div className="flex flex-wrap items-center gap-3">
        <span>
          {!last
            ? 'No restore has been rehearsed yet.'
            : last.state === 'running'
              ? 'A restore is being rehearsed…'
              : `Rehearsal of ${when(last.started)}: ${last.state}. ${count(last.files)}${last.everything ? '' : ` of ${count(last.of_files)}`} restored and compared (${bytes(last.bytes)})${last.failed > 0 ? `, ${count(last.failed)} failed` : ''}.`}
        </span>
        {all.data.due && <span className="text-small text-soft">Next due {when(all.data.due)}.</span>}
        <Button onClick={() => begin.mutate()} disabled={begin.isPending || last?.state === 'running'}>
          Rehearse a restore
        </Button>
      </div>
      {last?.why && <p className="text-brick">It broke off: {plain(last.why)}.</p>}
      {begin.isError && <Failed error={begin.error} />}
      <ul>
        {failed.slice(0, 10).map((one) => (
          <li key={one.address} className="text-brick">
            <span className="font-mono text-small break-all">{plain(one.address)}</span>: {plain(one.why ?? '')}
          </li>
        ))}
      </ul>
    </section>
  )
}
