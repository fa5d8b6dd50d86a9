import { useQuery } from '@tanstack/react-query'
import { lazy, Suspense } from 'react'
import { api, data, type Run, type RunSeries } from '../api/client'
import { bytes, count, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'

const Chart = lazy(() => import('./Chart'))

/** The course of a run: its chart, what it waited for most, and what happened. */
export function Course({ run }: { run: Run }) {
  const params = { params: { path: { id: run.id } } }
  const series = useQuery({ queryKey: ['run-series', run.id, run.ended], queryFn: () => data(api.GET('/api/v1/runs/{id}/series', params)), refetchInterval: (query) => (run.ended ? false : Math.min(30_000, Math.max(2000, query.state.data?.every ?? 0))), placeholderData: (before) => before })
  const events = useQuery({ queryKey: ['run-events', run.id, run.state], queryFn: () => data(api.GET('/api/v1/runs/{id}/events', params)), placeholderData: (before) => before })
  if (!series.data || !events.data) return null
  return (
    <section aria-label="Course of the run" className="border-t border-line py-3">
      {series.data.sentence && (
        <p className="mb-2">
          {series.data.sentence} {!run.ended && series.data.workers}
        </p>
      )}
      {run.workers && run.workers.length > 0 && <CopiedBy run={run} workers={run.workers} />}
      {series.data.at.length > 1 && (
        <Suspense fallback={<Skeleton rows={5} />}>
          <Chart series={series.data} events={events.data} />
        </Suspense>
      )}
      <div className="mt-2 grid gap-x-8 gap-y-2 lg:grid-cols-2">
        <details>
          <summary className="text-plumage">What happened ({count(events.data.length)})</summary>
          <ol className="mt-1 max-h-60 overflow-auto" tabIndex={0} aria-label="Events">
            {events.data.map((event, i) => (
              <li key={`${event.at} ${i}`} className="grid grid-cols-[180px_minmax(0,1fr)] gap-3">
                <span className="text-soft">{when(event.at)}</span>
                <span>{event.sentence}</span>
              </li>
            ))}
          </ol>
        </details>
        {series.data.at.length > 1 && (
          <details>
            <summary className="text-plumage">The figures of the chart</summary>
            <Figures series={series.data} />
          </details>
        )}
      </div>
    </section>
  )
}

/** Who copied what for a run. */
function CopiedBy({ run, workers }: { run: Run; workers: NonNullable<Run['workers']> }) {
  const own = Math.max(0, workers.reduce((left, worker) => left - worker.items, run.items.done))
  return (
    <table className="mb-3 w-full max-w-xl">
      <thead className="text-left text-small text-soft">
        <tr className="border-b border-line">
          <th className="font-normal">Copied by</th>
          <th className="text-right font-normal">Items</th>
          <th className="text-right font-normal">Bytes</th>
          {!run.ended && <th className="text-right font-normal">In hand</th>}
        </tr>
      </thead>
      <tbody>
        {workers.map((worker) => (
          <tr key={worker.name} className="border-b border-line">
            <td className="wrap-anywhere">{worker.name}</td>
            <td className="text-right">{count(worker.items)}</td>
            <td className="text-right">{bytes(worker.bytes)}</td>
            {!run.ended && <td className="text-right">{count(worker.now)}</td>}
          </tr>
        ))}
        <tr className="border-b border-line">
          <td>the service</td>
          <td className="text-right">{count(own)}</td>
          <td className="text-right">{bytes(Math.max(0, workers.reduce((left, worker) => left - worker.bytes, run.bytes.transferred)))}</td>
          {!run.ended && <td />}
        </tr>
      </tbody>
    </table>
  )
}

/** At most forty rows: of a long run, several intervals to a row. */
function Figures({ series }: { series: RunSeries }) {
  const step = Math.max(1, Math.ceil(series.at.length / 40))
  const rows = []
  for (let i = 0; i < series.at.length; i += step) {
    const sum = (column: number[]) => column.slice(i, i + step).reduce((a, b) => a + b, 0)
    const last = Math.min(series.at.length, i + step) - 1
    const seconds = sum(series.span) / 1000
    rows.push({ at: series.started + series.at[last]!, rate: sum(series.bytes) / seconds, items: sum(series.items) / seconds, retries: sum(series.retries), slow: sum(series.slow_downs) })
  }
  return (
    <div className="mt-1 max-h-60 overflow-auto" tabIndex={0} role="region" aria-label="Figures of the chart">
      <table className="w-full">
        <thead className="text-left text-small text-soft">
          <tr className="border-b border-line">
            <th className="font-normal">Until</th>
            <th className="text-right font-normal">Rate</th>
            <th className="text-right font-normal">Items a second</th>
            <th className="text-right font-normal">Retries</th>
            <th className="text-right font-normal">Slow down</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.at} className="border-b border-line">
              <td>{when(new Date(row.at).toISOString())}</td>
              <td className="text-right">{bytes(Math.round(row.rate))}/s</td>
              <td className="text-right">{row.items.toFixed(1)}</td>
              <td className="text-right">{count(row.retries)}</td>
              <td className="text-right">{count(row.slow)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
