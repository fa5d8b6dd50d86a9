import { useQuery } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import { api, data } from '../api/client'
import { useSettled } from '../ui/settled'
import { Field, SelectField } from '../ui/Field'
import { WeekGrid } from '../ui/WeekGrid'
import type { JobSpec, When } from './queries'

const kinds = [
  { value: 'hand', title: 'When you start it' },
  { value: 'continuous', title: 'As soon as something changes' },
  { value: 'arrival', title: 'For each file or folder that arrives' },
  { value: 'now', title: 'Once, as soon as it is created' },
  { value: 'at', title: 'Once, at a time' },
  { value: 'every', title: 'At an interval' },
  { value: 'weekly', title: 'Weekly' },
  { value: 'cron', title: 'By a cron timetable' },
]

const forms: Record<string, { label: string; placeholder: string }> = {
  at: { label: 'At', placeholder: '2026-12-01T22:00' },
  every: { label: 'Every', placeholder: '6h' },
  weekly: { label: 'Hours of the week', placeholder: 'mon-fri 22:00-06:00' },
  cron: { label: 'Minute, hour, day of the month, month, day of the week', placeholder: '0 22 * * 1-5' },
}

const arriving = [
  { value: 'file', title: 'each file' },
  { value: 'folder', title: 'each folder directly in the source' },
]

/** Which times a type of job can have. */
function kindsOf(type: string) {
  if (type === 'copy') return kinds
  return kinds.filter((kind) => kind.value !== 'arrival' && !(kind.value === 'continuous' && type === 'migrate'))
}

/** When a job runs automatically, and within which hours. */
export function WhenFields({ spec, onChange }: { spec: JobSpec; onChange: (change: Pick<JobSpec, 'when' | 'arrivals'>) => void }) {
  const given = spec.when ?? {}
  const kind = given.continuous ? 'continuous' : given.now ? 'now' : (['at', 'every', 'weekly', 'cron', 'arrival'] as const).find((one) => given[one] !== undefined) ?? 'hand'
  const keep = { zone: given.zone, hours: given.hours }
  const form = forms[kind]
  const start: Record<string, unknown> = { continuous: true, now: true, arrival: 'file' }
  const arrivals = spec.arrivals ?? {}
  const setHours = (hours: string) => onChange({ when: { ...given, hours: hours || undefined }, arrivals: spec.arrivals })
  const setArrivals = (change: NonNullable<JobSpec['arrivals']>) => {
    const next = { ...arrivals, ...change }
    onChange({ when: given, arrivals: next.rest || next.at_once ? next : undefined })
  }
  return (
    <fieldset className="grid gap-2">
      <SelectField label="Schedule" value={kind} onChange={(next) => onChange({ when: next === 'hand' ? keep : { ...keep, [next]: start[next] ?? '' }, arrivals: undefined })} choices={kindsOf(spec.type)} />
      {form && <Field label={form.label} placeholder={form.placeholder} mono value={given[kind as 'at'] ?? ''} onChange={(event) => onChange({ when: { ...keep, [kind]: event.target.value }, arrivals: undefined })} />}
      {kind === 'weekly' && <WeekGrid label="Schedule" value={given.weekly ?? ''} onChange={(weekly) => onChange({ when: { ...keep, weekly }, arrivals: undefined })} />}
      {kind === 'arrival' && (
        <div className="grid gap-2 sm:grid-cols-3">
          <SelectField label="What arrives" value={given.arrival ?? 'file'} onChange={(arrival) => onChange({ when: { ...given, arrival }, arrivals: spec.arrivals })} choices={arriving} />
          <Field label="Complete if unchanged for" placeholder={given.arrival === 'folder' ? '30s' : '10s'} mono value={arrivals.rest ?? ''} onChange={(event) => setArrivals({ rest: event.target.value || undefined })} />
          <Field label="Arrivals at once" placeholder="2" inputMode="numeric" value={arrivals.at_once?.toString() ?? ''} onChange={(event) => setArrivals({ at_once: Number(event.target.value.replace(/\D/g, '')) || undefined })} />
        </div>
      )}
      <div className="grid gap-2 sm:grid-cols-2">
        <Field label="Hours in which a run may go" placeholder="mon-fri 20:00-06:00, sat, sun" mono value={given.hours ?? ''} onChange={(event) => setHours(event.target.value)} />
        <Field label="Time zone" placeholder="the service’s own" mono value={given.zone ?? ''} onChange={(event) => onChange({ when: { ...given, zone: event.target.value || undefined }, arrivals: spec.arrivals })} />
      </div>
      {kind !== 'weekly' && (
        <Disclosure title={given.hours ? 'Hours in which a run may go, as a grid' : 'Limit runs to hours of the week'} open={!!given.hours}>
          <WeekGrid label="Hours of runs" value={given.hours ?? ''} onChange={setHours} clearTitle="No limit" />
        </Disclosure>
      )}
      <NextTimes when={given} />
    </fieldset>
  )
}

/** Something that is shown when it is wanted. */
function Disclosure({ title, open, children }: { title: string; open: boolean; children: ReactNode }) {
  const [shown, setShown] = useState(open)
  return (
    <div>
      <button type="button" aria-expanded={shown} onClick={() => setShown(!shown)} className="text-plumage hover:underline">
        {title}
      </button>
      {shown && <div className="mt-1">{children}</div>}
    </div>
  )
}

/** The next five times of a schedule, in its own time zone. */
function NextTimes({ when }: { when: When }) {
  const asked = useSettled(JSON.stringify(when))
  const timed = !!(when.at || when.every || when.weekly || when.cron)
  const times = useQuery({ queryKey: ['times', asked], queryFn: () => data(api.POST('/api/v1/schedules/times', { body: JSON.parse(asked) as When })), enabled: timed && asked === JSON.stringify(when), retry: false })
  if (!timed || !times.data) return null
  if (times.data.times.length === 0) return <p className="text-small text-ochre">This schedule has no time to come.</p>
  const shown = (at: string) => {
    try {
      const timeZone = when.zone || undefined
      const day = new Date(at).toLocaleDateString('en', { timeZone, weekday: 'short' })
      return `${day} ${new Date(at).toLocaleString('sv-SE', { timeZone, year: 'numeric', month: '2-digit', day: '2-digit', hour: '2-digit', minute: '2-digit' })}`
    } catch {
      return at
    }
  }
  return (
    <p className="text-small text-soft">
      Next runs ({when.zone || 'local time'}): {times.data.times.map(shown).join(' · ')}
    </p>
  )
}
