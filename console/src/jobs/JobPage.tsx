import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { api, data } from '../api/client'
import { Summary } from '../files/CopyDialog'
import { useSettled } from '../ui/settled'
import { useUndo } from '../ui/undo'
import { RulesForm } from '../files/Rules'
import { TargetField } from '../files/TargetField'
import { Button } from '../ui/Button'
import { Choice } from '../ui/Choice'
import { Dialog } from '../ui/Dialog'
import { Field } from '../ui/Field'
import { when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { KeepFields, RehearsalList } from '../history/KeepFields'
import { ArrivalList, TriedArrival } from './Arrivals'
import { ChangedElsewhere, fitting, specOf } from './changes'
import { MigrationFields, MigrationSteps, NextStep } from './Migration'
import { type Job, type JobSpec, useJob, whenWords } from './queries'
import { TypeCards } from './TypeCards'
import { WhenFields } from './When'

const deletions = [
  { value: 'keep-version', title: 'Keep a version', help: 'delete them on the other side too, and keep a version in history' },
  { value: 'delete', title: 'Delete', help: 'delete them on the other side too, into the provider’s trash if it has one' },
  { value: 'ignore', title: 'Ignore', help: 'leave them on the other side' },
]

const fresh: JobSpec = { name: '', type: 'copy', routes: [{ from: '', to: '' }], when: {}, rules: {} }

/** A new job, with the routes that the page's address gives. */
function asked(search: URLSearchParams): JobSpec {
  const targets = search.getAll('to')
  const routes = search.getAll('from').map((from, i) => ({ from, to: targets[i] ?? '' }))
  return routes.length > 0 ? { ...fresh, routes } : fresh
}

/** A job: what it makes true, beside what a run of it would do. */
export function JobPage() {
  const { name = '' } = useParams()
  const making = name === 'new'
  const job = useJob(making ? '' : name)
  useEffect(() => {
    document.title = `${making ? 'A new job' : name} · Deft Heron`
  }, [making, name])
  if (making) return <JobForm key="new" />
  if (job.isError) return <Failed error={job.error} />
  if (!job.data) return <p className="py-6 text-soft">Looking…</p>
  return <JobForm key={job.data.name} job={job.data} />
}

function JobForm({ job }: { job?: Job }) {
  const navigate = useNavigate()
  const client = useQueryClient()
  const [search] = useSearchParams()
  const [spec, setSpec] = useState<JobSpec>(() => (job ? specOf(job) : asked(search)))
  // The job as it was when the form was filled: it may be changed elsewhere meanwhile.
  const [base, setBase] = useState(job)
  const removes = spec.type === 'mirror' || spec.type === 'two-way'
  const arrives = spec.type === 'copy' && spec.when?.arrival !== undefined
  const body = JSON.stringify(fitting({ ...spec, name: spec.name || 'not-named' }))
  const planned = useSettled(body)
  const ready = spec.routes.every((route) => /^\/[a-z0-9-]+/.test(route.from) && /^\/[a-z0-9-]+/.test(route.to))
  const unchanged = !!base && body === JSON.stringify(fitting(specOf(base)))
  const take = (other: Job) => {
    setBase(other)
    setSpec(specOf(other))
  }
  const elsewhere = job && base && job.changed !== base.changed ? job : undefined
  useEffect(() => {
    if (elsewhere && unchanged) take(elsewhere)
  }, [elsewhere, unchanged])
  const plan = useQuery({
    queryKey: ['job plan', planned, unchanged],
    queryFn: ({ signal }) =>
      unchanged && job
        ? data(api.GET('/api/v1/jobs/{name}/plan', { params: { path: { name: job.name } }, signal }))
        : data(api.POST('/api/v1/jobs/plans', { body: JSON.parse(planned) as JobSpec, signal })),
    enabled: ready && planned === body && !arrives,
    retry: false,
    staleTime: 0,
    gcTime: 0,
  })
  const save = useMutation({
    mutationFn: () => {
      const given = { ...(JSON.parse(body) as JobSpec), name: spec.name }
      if (!base) return data(api.POST('/api/v1/jobs', { body: given }))
      return data(api.PUT('/api/v1/jobs/{name}', { params: { path: { name: base.name }, header: { 'If-Match': `"${base.changed}"` } }, body: given }))
    },
    onError: () => void client.invalidateQueries({ queryKey: ['jobs'] }),
    onSuccess: (saved) => {
      if (base) take(saved)
      void client.invalidateQueries({ queryKey: ['jobs'] })
      void navigate(`/jobs/${saved.name}`)
    },
  })
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="flex flex-wrap items-center justify-between gap-2 py-3">
        <h1 className="text-title font-semibold">{job ? job.name : 'A new job'}</h1>
        {job && <Actions job={job} />}
      </div>
      {job && <Standing job={job} />}
      {job && <MigrationSteps job={job} />}
      {job && <RehearsalList job={job.name} />}
      {job?.when?.arrival !== undefined && <ArrivalList job={job} />}
      <div className="grid gap-8 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <form
          className="grid content-start gap-4"
          onSubmit={(event) => {
            event.preventDefault()
            save.mutate()
          }}
        >
          {!job && <Field label="Name" placeholder="reports-to-archive" value={spec.name} onChange={(event) => setSpec({ ...spec, name: event.target.value })} help="Lower-case letters, digits and hyphens." />}
          <TypeCards value={spec.type} onChange={(type) => setSpec({ ...spec, type: type as JobSpec['type'] })} />
          <Routes spec={spec} onChange={(routes) => setSpec({ ...spec, routes })} />
          {spec.type === 'migrate' && <MigrationFields spec={spec} saved={base?.migrate?.share_lists ? base.name : undefined} onChange={(migrate) => setSpec({ ...spec, migrate })} />}
          <WhenFields spec={spec} onChange={(change) => setSpec({ ...spec, ...change })} />
          {removes && <Choice legend="Files deleted on one side" value={spec.rules?.deletions || 'keep-version'} onChange={(deletions) => setSpec({ ...spec, rules: { ...spec.rules, deletions } })} choices={deletions} />}
          <KeepFields spec={spec} saved={base?.name} onChange={(history) => setSpec({ ...spec, history })} />
          {removes && <SafetyFields spec={spec} onChange={(safety) => setSpec({ ...spec, safety })} />}
          <RulesForm merges={spec.type === 'consolidate'} settings={spec} onChange={(settings) => setSpec({ ...spec, ...settings })} />
          {elsewhere && !unchanged && <ChangedElsewhere mine={fitting(spec)} theirs={elsewhere} onTake={() => take(elsewhere)} onKeep={() => (setBase(elsewhere), save.reset())} />}
          {save.isError && !elsewhere && <Failed error={save.error} />}
          <div className="flex gap-2">
            <Button look="first" type="submit" disabled={!ready || save.isPending || unchanged || !!elsewhere || (!job && !spec.name)}>
              {job ? 'Save changes' : 'Create job'}
            </Button>
            <Link to="/accounts/link" target="_blank" className="inline-flex h-8 items-center px-3 text-plumage hover:underline">
              Link another account
            </Link>
          </div>
        </form>
        <section aria-label="Plan" aria-live="polite">
          <h2 className="pb-2 font-semibold">{arrives ? 'Test with the latest arrival' : `Plan${job && unchanged ? ' now' : ''}`}</h2>
          {arrives ? (
            <TriedArrival asked={planned} ready={ready && planned === body} />
          ) : plan.isError && planned === body ? (
            <Failed error={plan.error} />
          ) : plan.data && planned === body ? (
            <Summary plan={plan.data} />
          ) : (
            <p className="text-soft">{ready ? 'Comparing both sides…' : 'Choose a source and a target to see the plan.'}</p>
          )}
        </section>
      </div>
    </div>
  )
}

/** How the job stands: its sentence, its last run, and when it runs next. */
function Standing({ job }: { job: Job }) {
  return (
    <div className="max-w-4xl pb-4">
      <p>{job.sentence}</p>
      <dl className="mt-2 grid grid-cols-[max-content_minmax(0,1fr)] gap-x-4 text-small">
        <dt className="text-soft">Runs</dt>
        <dd>{job.state === 'suspended' ? 'never: the job is suspended' : whenWords(job.when ?? {})}</dd>
        {job.next.length > 0 && (
          <>
            <dt className="text-soft">Next</dt>
            <dd>{job.next.map((at) => when(at)).join(' · ')}</dd>
          </>
        )}
        {job.last && (
          <>
            <dt className="text-soft">Last run</dt>
            <dd>
              <Link to={`/runs/${job.last.id}`} className="inline-flex gap-2 text-plumage hover:underline">
                <State state={job.last.state} /> {job.last.watching ? 'in sync, waiting for changes' : when(job.last.started)}
              </Link>
            </dd>
          </>
        )}
      </dl>
    </div>
  )
}

function Actions({ job }: { job: Job }) {
  const navigate = useNavigate()
  const client = useQueryClient()
  const offer = useUndo()
  const [removing, setRemoving] = useState(false)
  const path = { params: { path: { name: job.name } } }
  const again = () => void client.invalidateQueries({ queryKey: ['jobs'] })
  const start = useMutation({ mutationFn: () => data(api.POST('/api/v1/jobs/{name}/start', { ...path, body: {} })), onSuccess: (started) => navigate(`/runs/${started.run}`) })
  const suspend = useMutation({
    mutationFn: () => (job.state === 'suspended' ? data(api.POST('/api/v1/jobs/{name}/resume', path)) : data(api.POST('/api/v1/jobs/{name}/suspend', path))),
    onSuccess: () => {
      again()
      const was = job.state === 'suspended'
      offer(was ? `Resumed the schedule of ${job.name}.` : `Suspended the schedule of ${job.name}.`, () =>
        data(was ? api.POST('/api/v1/jobs/{name}/suspend', path) : api.POST('/api/v1/jobs/{name}/resume', path)).finally(again),
      )
    },
  })
  const remove = useMutation({
    mutationFn: () => data(api.DELETE('/api/v1/jobs/{name}', path)),
    onSuccess: () => {
      again()
      void navigate('/jobs')
    },
  })
  const wrong = start.error ?? suspend.error
  return (
    <div className="flex flex-wrap items-center gap-2">
      {wrong && <Failed error={wrong} />}
      {job.migration ? (
        <NextStep job={job} />
      ) : (
        <Button look="first" disabled={start.isPending || (!!job.last && !job.last.ended)} onClick={() => start.mutate()}>
          Start now
        </Button>
      )}
      <Button disabled={suspend.isPending} onClick={() => suspend.mutate()}>
        {job.state === 'suspended' ? 'Resume' : 'Suspend'}
      </Button>
      <Button onClick={() => setRemoving(true)}>Delete…</Button>
      <Dialog open={removing} onClose={() => setRemoving(false)} title={`Delete the job ${job.name}?`} description="Its runs, their reports and the transferred files stay.">
        <div className="grid gap-4">
          {remove.isError && <Failed error={remove.error} />}
          <div className="flex justify-end gap-2">
            <Button onClick={() => setRemoving(false)}>Cancel</Button>
            <Button look="first" disabled={remove.isPending} onClick={() => remove.mutate()}>
              Delete the job
            </Button>
          </div>
        </div>
      </Dialog>
    </div>
  )
}

function Routes({ spec, onChange }: { spec: JobSpec; onChange: (routes: JobSpec['routes']) => void }) {
  const set = (at: number, change: Partial<JobSpec['routes'][number]>) => onChange(spec.routes.map((route, i) => (i === at ? { ...route, ...change } : route)))
  const both = spec.type === 'two-way'
  return (
    <fieldset className="grid gap-2">
      <legend className="text-small text-soft">{both ? 'Folders' : 'Source and target'}</legend>
      {spec.routes.map((route, i) => (
        <div key={i} className="grid grid-cols-1 items-end gap-2 sm:grid-cols-[minmax(0,1fr)_minmax(0,1fr)_max-content]">
          <TargetField label={both ? 'One' : 'From'} value={route.from} onChange={(from) => set(i, { from })} files={!both} />
          <TargetField label={both ? 'The other' : 'As'} value={route.to} onChange={(to) => set(i, { to })} />
          <Button disabled={spec.routes.length === 1} aria-label={`Remove route ${i + 1}`} onClick={() => onChange(spec.routes.filter((_, n) => n !== i))}>
            Remove
          </Button>
        </div>
      ))}
      <div>
        <Button onClick={() => onChange([...spec.routes, { from: '', to: '' }])}>Another route</Button>
      </div>
    </fieldset>
  )
}

function SafetyFields({ spec, onChange }: { spec: JobSpec; onChange: (safety: JobSpec['safety']) => void }) {
  const safety = spec.safety ?? {}
  const set = (change: Partial<NonNullable<JobSpec['safety']>>) => {
    const next = { ...safety, ...change }
    onChange(next.deletions || next.overwrites || next.older ? next : undefined)
  }
  return (
    <fieldset className="grid gap-2 sm:grid-cols-2">
      <legend className="text-small text-soft">Safety limits: a run above one is held for approval</legend>
      <Field label="Removed, at most" placeholder="10%" value={safety.deletions ?? ''} onChange={(event) => set({ deletions: event.target.value || undefined })} />
      <Field label="Written over, at most" placeholder="25%" value={safety.overwrites ?? ''} onChange={(event) => set({ overwrites: event.target.value || undefined })} />
    </fieldset>
  )
}
