import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate } from 'react-router'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Dialog } from '../ui/Dialog'
import { Field, SelectField } from '../ui/Field'
import { bytes, count, some, when } from '../ui/format'
import { Papers } from '../runs/Papers'
import { Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { PeopleTable } from './People'
import type { Job, JobSpec } from './queries'

type Step = NonNullable<components['schemas']['Starting']['step']>

const names: Record<string, string> = {
  survey: 'Survey',
  'first-pass': 'First pass',
  'catch-up': 'Catch-up pass',
  'final-pass': 'Final pass',
  clear: 'Clearing',
  fetch: 'Fetching back',
}

/** The name of a step of a migration, in words. */
export const stepName = (step: string) => names[step] ?? step

const upTo = [
  { value: '', title: 'no step: each waits for you' },
  { value: 'first-pass', title: 'the first pass' },
  { value: 'catch-up', title: 'the catch-up passes' },
  { value: 'final-pass', title: 'the final pass, with its certificate' },
  { value: 'clear', title: 'the clearing of the source' },
]

/** How a migration goes: how far by itself, and whether the source is cleared. */
export function MigrationFields({ spec, saved, onChange }: { spec: JobSpec; saved?: string; onChange: (migrate: JobSpec['migrate']) => void }) {
  const given = spec.migrate ?? {}
  const set = (change: Partial<NonNullable<JobSpec['migrate']>>) => {
    const next = { ...given, ...change }
    onChange(next.go_on || next.little || next.clear || next.share_lists || next.people ? next : undefined)
  }
  return (
    <fieldset className="grid gap-2">
      <legend className="text-small text-soft">Steps</legend>
      <div className="grid gap-2 sm:grid-cols-2">
        <SelectField label="Continues automatically up to" value={given.go_on ?? ''} onChange={(value) => set({ go_on: (value || undefined) as Step as never })} choices={given.clear ? upTo : upTo.slice(0, 4)} />
        <Field
          label="Caught up if a pass has at most this many files"
          placeholder="20"
          inputMode="numeric"
          value={given.little?.toString() ?? ''}
          onChange={(event) => set({ little: Number(event.target.value.replace(/\D/g, '')) || undefined })}
        />
      </div>
      <span className="flex items-center gap-2">
        <Checkbox checked={given.clear ?? false} label="At the end, clear the source of exactly what was verified" onChange={() => set({ clear: given.clear ? undefined : true, go_on: given.go_on === 'clear' ? undefined : given.go_on })} />
        At the end, clear the source of exactly what was verified at the target
      </span>
      <span className="flex items-center gap-2">
        <Checkbox checked={given.share_lists === 'carry'} label="In the final pass, carry share lists and owners over" onChange={() => set({ share_lists: given.share_lists ? undefined : 'carry' })} />
        In the final pass, carry share lists and owners over
      </span>
      {given.share_lists === 'carry' && <PeopleTable job={saved} table={given.people ?? {}} onChange={(people) => set({ people: Object.keys(people).length > 0 ? people : undefined })} />}
    </fieldset>
  )
}

/** How far a migration has come, and what comes next. */
export function MigrationSteps({ job }: { job: Job }) {
  const migration = job.migration
  if (!migration) return null
  const made = migration.certificate
  return (
    <section aria-label="The steps of the migration" className="max-w-4xl pb-6">
      <table className="w-full">
        <thead className="text-left text-small text-soft">
          <tr className="border-b border-line">
            <th className="py-1 pr-4 font-normal">Step</th>
            <th className="py-1 pr-4 font-normal">State</th>
            <th className="py-1 pr-4 text-right font-normal">Items</th>
            <th className="py-1 pr-4 text-right font-normal">Transferred</th>
            <th className="hidden py-1 font-normal sm:table-cell">Ended</th>
          </tr>
        </thead>
        <tbody>
          {migration.steps.map((step) => (
            <tr key={step.run} className="h-8 border-b border-line">
              <td className="pr-4">
                <Link to={`/runs/${step.run}`} className="text-plumage hover:underline">
                  {stepName(step.step)}
                </Link>
              </td>
              <td className="pr-4">
                <State state={step.state} />
              </td>
              <td className="pr-4 text-right">{step.step === 'survey' ? '' : count(step.items)}</td>
              <td className="pr-4 text-right">{step.step === 'survey' ? '' : bytes(step.transferred)}</td>
              <td className="hidden text-soft sm:table-cell">{when(step.ended)}</td>
            </tr>
          ))}
          {migration.next && !migration.steps.some((step) => !step.ended) && (
            <tr className="h-8 border-b border-line">
              <td className="pr-4 font-semibold">{stepName(migration.next)}</td>
              <td className={migration.waits ? 'pr-4 text-ochre' : 'pr-4'} colSpan={4}>
                {migration.waits ? `waits for you: ${migration.why}` : 'starts automatically'}
              </td>
            </tr>
          )}
        </tbody>
      </table>
      {made && (
        <div className="flex flex-wrap items-baseline gap-x-6 pt-2">
          <p className={made.unverified.items ? 'text-brick' : 'text-reed'}>
            {some(made.verified.items, 'file')} ({bytes(made.verified.bytes)}) verified{made.unverified.items ? `, ${count(made.unverified.items)} not` : ''}.
          </p>
          {made.annotations && (
            <p className="text-small">
              {some(made.annotations.tags, 'tag')} and {some(made.annotations.comments, 'comment')} carried over
              {made.annotations.missing > 0 && <span className="text-ochre">, {some(made.annotations.missing, 'entry')} not at the target</span>}.
            </p>
          )}
          {made.sharing && (
            <p>
              {count(made.sharing.carried)} rights of share lists carried over{made.sharing.lesser > 0 && `, ${count(made.sharing.lesser)} as lesser ones`}
              {made.sharing.missing > 0 && <span className="text-ochre">, {count(made.sharing.missing)} missing</span>}.
            </p>
          )}
          {made.sharing && made.sharing.lesser + made.sharing.missing > 0 && (
            <a href={`/api/v1/runs/${made.run}/certificate?format=people-csv`} className="text-small text-plumage hover:underline">
              Missing rights as CSV
            </a>
          )}
          <Papers run={made.run} what="certificate" />
        </div>
      )}
    </section>
  )
}

/** Starts the step that comes next; a clearing is asked about. */
export function NextStep({ job }: { job: Job }) {
  const navigate = useNavigate()
  const client = useQueryClient()
  const [asking, setAsking] = useState(false)
  const migration = job.migration
  const start = useMutation({
    mutationFn: (step: Step | undefined) => data(api.POST('/api/v1/jobs/{name}/start', { params: { path: { name: job.name } }, body: { step } })),
    onSuccess: (started) => {
      void client.invalidateQueries({ queryKey: ['jobs'] })
      void navigate(`/runs/${started.run}`)
    },
  })
  if (!migration) return null
  const going = migration.steps.some((step) => !step.ended)
  const cleared = !migration.next && migration.steps.at(-1)?.step === 'clear'
  const made = migration.certificate
  const files = made ? some(made.verified.items, 'file') : 'the verified files'
  return (
    <>
      {start.isError && <Failed error={start.error} />}
      {migration.next && (
        <Button look="first" disabled={going || start.isPending} onClick={() => (migration.next === 'clear' ? setAsking(true) : start.mutate(undefined))}>
          {migration.next === 'clear' ? 'Clear the source…' : `Start the ${stepName(migration.next).toLowerCase()}`}
        </Button>
      )}
      {cleared && (
        <Button disabled={start.isPending} onClick={() => start.mutate('bring-back')}>
          Bring back
        </Button>
      )}
      <Dialog
        open={asking}
        onClose={() => setAsking(false)}
        title={`Delete ${files} at the source?`}
        description={`${made ? `${files} (${bytes(made.verified.bytes)}) were verified at the target. ` : ''}Each file is checked again on both sides and deleted only if it is as verified. Bring back copies them to the source again.`}
      >
        <div className="flex justify-end gap-2">
          <Button onClick={() => setAsking(false)}>Cancel</Button>
          <Button look="danger" disabled={start.isPending} onClick={() => start.mutate('clear')}>
            Delete {files}
          </Button>
        </div>
      </Dialog>
    </>
  )
}
