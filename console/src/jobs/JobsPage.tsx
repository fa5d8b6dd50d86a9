import { useEffect } from 'react'
import { Link } from 'react-router'
import { plain, when } from '../ui/format'
import { Empty, Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { arrow, type Job, useJobs, whenWords } from './queries'
import { Changing } from '../ui/may'

/** All that is kept: what is to be true, when it runs, and what came of it last. */
export function JobsPage() {
  const jobs = useJobs()
  useEffect(() => {
    document.title = 'Jobs · Deft Heron'
  }, [])
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <div className="flex items-center justify-between py-3">
        <h1 className="text-title font-semibold">Jobs</h1>
        <Changing>
          <Link to="/jobs/new" className="inline-flex h-8 items-center rounded-md border border-plumage bg-plumage px-3 text-panel hover:opacity-90">
            Create a job
          </Link>
        </Changing>
      </div>
      {jobs.isError && <Failed error={jobs.error} />}
      {jobs.data?.jobs.length === 0 && (
        <Empty action={<Link to="/jobs/new" className="text-plumage hover:underline">Create the first job</Link>}>
          A job copies, mirrors, syncs or migrates folders: on a schedule, continuously, or when you start it. There are no jobs yet.
        </Empty>
      )}
      {jobs.data && jobs.data.jobs.length > 0 && (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 font-normal">Job</th>
              <th className="py-1 pr-4 font-normal">Type</th>
              <th className="py-1 pr-4 font-normal">Last run</th>
              <th className="hidden py-1 pr-4 font-normal sm:table-cell">Next</th>
              <th className="hidden py-1 font-normal md:table-cell">From and to</th>
            </tr>
          </thead>
          <tbody>
            {jobs.data.jobs.map((job) => (
              <JobRow key={job.name} job={job} />
            ))}
          </tbody>
        </table>
      )}
    </div>
  )
}

function JobRow({ job }: { job: Job }) {
  const next = job.state === 'suspended' ? 'suspended' : job.next[0] ? when(job.next[0]) : whenWords(job.when ?? {})
  return (
    <tr className="h-8 border-b border-line align-top hover:bg-panel">
      <td className="py-1 pr-4">
        <Link to={`/jobs/${job.name}`} className="text-plumage hover:underline">
          {job.name}
        </Link>
      </td>
      <td className="py-1 pr-4">{job.type}</td>
      <td className="py-1 pr-4">
        {job.last ? (
          <Link to={`/runs/${job.last.id}`} className="hover:underline">
            <State state={job.last.state} />
          </Link>
        ) : (
          <span className="text-soft">none yet</span>
        )}
      </td>
      <td className="hidden py-1 pr-4 text-soft sm:table-cell">{next}</td>
      <td className="hidden py-1 font-mono text-small break-all md:table-cell">
        {job.routes.slice(0, 3).map((route) => (
          <div key={route.from + route.to}>
            {plain(route.from)} {arrow(job.type)} {plain(route.to)}
          </div>
        ))}
        {job.routes.length > 3 && <div>and {job.routes.length - 3} more</div>}
      </td>
    </tr>
  )
}
