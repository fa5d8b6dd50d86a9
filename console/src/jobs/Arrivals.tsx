import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, data } from '../api/client'
import { Summary } from '../files/CopyDialog'
import { bytes, plain, when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { State } from '../ui/State'
import type { Job, JobSpec } from './queries'

/** What a rule would do with the latest real arrival, before it is switched on. */
export function TriedArrival({ asked, ready }: { asked: string; ready: boolean }) {
  const tried = useQuery({
    queryKey: ['tried arrival', asked],
    queryFn: ({ signal }) => data(api.POST('/api/v1/jobs/tries', { body: { job: JSON.parse(asked) as JobSpec }, signal })),
    enabled: ready,
    retry: false,
    staleTime: 0,
    gcTime: 0,
  })
  if (tried.isError) return <Failed error={tried.error} />
  if (!ready || !tried.data) return <p className="text-soft">{ready ? 'Looking for the latest arrival…' : 'Choose a source and a target to test the rule with the latest arrival.'}</p>
  if (!tried.data.matches) return <p className="border-l-2 border-ochre pl-4">There is no arrival to test with: {tried.data.why}.</p>
  return (
    <div className="grid gap-3">
      <p>
        Tried on <span className="font-mono text-small break-all">{plain(tried.data.address)}</span>
        {tried.data.arrived && <span className="text-soft">, changed {when(tried.data.arrived)}</span>}
      </p>
      <ul className="border-l-2 border-plumage pl-4 font-mono text-small">
        {tried.data.targets.slice(0, 12).map((one) => (
          <li key={one.target} className="break-all">
            → {plain(one.target)}
          </li>
        ))}
      </ul>
      {tried.data.plan && <Summary plan={tried.data.plan} />}
    </div>
  )
}

/** Latest arrivals, and what became of it. */
export function ArrivalList({ job }: { job: Job }) {
  const arrivals = useQuery({
    queryKey: ['jobs', job.name, 'arrivals'],
    queryFn: () => data(api.GET('/api/v1/jobs/{name}/arrivals', { params: { path: { name: job.name } } })),
    refetchInterval: 3000,
  })
  if (arrivals.isError) return <Failed error={arrivals.error} />
  const all = arrivals.data?.arrivals ?? []
  return (
    <section aria-label="Latest arrivals" className="max-w-4xl pb-6">
      <h2 className="pb-1 font-semibold">Latest arrivals</h2>
      {arrivals.isSuccess && all.length === 0 && <p className="text-soft">None since the job was created. Files that were there before are not arrivals.</p>}
      {all.length > 0 && (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-4 font-normal">Arrival</th>
              <th className="py-1 pr-4 font-normal">State</th>
              <th className="py-1 pr-4 text-right font-normal">Size</th>
              <th className="hidden py-1 font-normal sm:table-cell">Seen</th>
            </tr>
          </thead>
          <tbody>
            {all.slice(0, 20).map((one) => (
              <tr key={one.address} className="h-8 border-b border-line">
                <td className="pr-4 font-mono text-small break-all">{plain(one.address)}</td>
                <td className="pr-4">
                  {one.run ? (
                    <Link to={`/runs/${one.run}`} className="hover:underline">
                      <State state={one.state} />
                    </Link>
                  ) : (
                    <State state={one.state} />
                  )}
                </td>
                <td className="pr-4 text-right whitespace-nowrap">{bytes(one.size)}</td>
                <td className="hidden whitespace-nowrap text-soft sm:table-cell">{when(one.since)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  )
}
