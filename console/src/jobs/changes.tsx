import { Button } from '../ui/Button'
import { plain, when } from '../ui/format'
import type { Job, JobSpec } from './queries'

/** A job as it is written, of one that is shown. */
export const specOf = (job: Job): JobSpec => ({
  name: job.name, type: job.type, routes: job.routes, when: job.when ?? {}, rules: job.rules ?? {}, priority: job.priority, retry: job.retry, bandwidth: job.bandwidth, safety: job.safety, migrate: job.migrate, arrivals: job.arrivals, history: job.history,
})

/** What of a job fits its type: the rest was said for another that was chosen before. */
export function fitting(spec: JobSpec): JobSpec {
  const removes = spec.type === 'mirror' || spec.type === 'two-way'
  const { arrival, continuous, ...when } = spec.when ?? {}
  const identical = spec.type === 'consolidate' ? spec.rules?.identical : undefined
  return {
    ...spec,
    when: { ...when, ...(arrival !== undefined && spec.type === 'copy' && { arrival }), ...(continuous && spec.type !== 'migrate' && { continuous }) },
    rules: { ...spec.rules, identical, deletions: removes ? spec.rules?.deletions : undefined },
    safety: removes ? spec.safety : undefined,
    history: spec.type === 'copy' ? spec.history : spec.history && { ...spec.history, additions_only: undefined },
    migrate: spec.type === 'migrate' ? spec.migrate : undefined,
    arrivals: arrival !== undefined && spec.type === 'copy' ? spec.arrivals : undefined,
  }
}

/** The settings of a value by their paths, such as "when.every", as text. */
function settingsOf(value: unknown, path = ''): Map<string, string> {
  if (value === null || value === undefined || value === '' || value === false) return new Map()
  if (typeof value !== 'object') return new Map([[path, String(value)]])
  if (Array.isArray(value) && value.every((one) => typeof one !== 'object')) return value.length ? new Map([[path, value.join(', ')]]) : new Map()
  return new Map(Object.entries(value).flatMap(([name, one]) => [...settingsOf(one, path ? `${path}.${Array.isArray(value) ? Number(name) + 1 : name}` : name)]))
}

type Props = { mine: JobSpec; theirs: Job; onTake: () => void; onKeep: () => void }

/** The job was changed in another window, or by a command, while this form was filled: what differs. */
export function ChangedElsewhere({ mine, theirs, onTake, onKeep }: Props) {
  const [a, b] = [settingsOf(mine), settingsOf(fitting(specOf(theirs)))]
  const names = [...new Set([...a.keys(), ...b.keys()])].filter((name) => a.get(name) !== b.get(name)).sort()
  return (
    <section role="alert" aria-label="Changed elsewhere" className="border-l-2 border-ochre py-1 pl-4">
      <p className="text-ochre">This job was changed elsewhere at {when(theirs.changed)}, while you were changing it here.</p>
      <table className="mt-2 w-full">
        <thead className="text-left text-small text-soft">
          <tr className="border-b border-line">
            <th className="py-1 pr-4 font-normal">Setting</th>
            <th className="py-1 pr-4 font-normal">Saved elsewhere</th>
            <th className="py-1 font-normal">Yours, not saved</th>
          </tr>
        </thead>
        <tbody>
          {names.map((name) => (
            <tr key={name} className="border-b border-line align-baseline">
              <td className="py-1 pr-4 text-soft">{name}</td>
              <td className="py-1 pr-4 wrap-anywhere">{plain(b.get(name) ?? '') || 'not set'}</td>
              <td className="py-1 wrap-anywhere">{plain(a.get(name) ?? '') || 'not set'}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <div className="mt-2 flex flex-wrap gap-2">
        <Button onClick={onTake}>Take what was saved elsewhere</Button>
        <Button onClick={onKeep}>Keep mine</Button>
      </div>
    </section>
  )
}
