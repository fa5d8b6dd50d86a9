import { Link } from 'react-router'
import type { Run } from '../api/client'
import { serviceNow } from '../api/clock'
import type { Job } from '../jobs/queries'
import { plain, when } from '../ui/format'
import { nameOf } from '../runs/run'

const colours: Record<string, string> = {
  running: 'fill-plumage', done: 'fill-reed', partial: 'fill-ochre', held: 'fill-ochre', failed: 'fill-brick', cancelled: 'fill-soft', paused: 'fill-soft', queued: 'fill-soft',
}

const single = 'Single copies'
const hour = 3_600_000
const mostRows = 8
const rowHeight = 26
const columns = 'clamp(96px, 26vw, 180px) minmax(0,1fr)'

/** The times of day on the axis: every six hours. */
function ticksOf(start: number): number[] {
  const first = new Date(start)
  first.setMinutes(0, 0, 0)
  const ticks = []
  for (let at = first; at.getTime() < start + 47 * hour; at.setHours(at.getHours() + 1)) {
    const fits = at.getTime() > start + hour && Math.abs(at.getTime() - start - 24 * hour) > 2 * hour
    if (at.getHours() % 6 === 0 && fits) ticks.push(at.getTime())
  }
  return ticks
}

type Bar = { run: Run; from: number; to: number }

/** Two days as one strip: runs as bars by state, scheduled runs as outlines, now as a line. */
export function Strip({ runs, jobs, more }: { runs: Run[]; jobs: Job[]; more: boolean }) {
  const now = serviceNow()
  const start = now - 24 * hour
  const x = (at: number) => Math.max(0, Math.min(1, (at - start) / (48 * hour))) * 1000
  const rows = new Map<string, { bars: Bar[]; coming: number[] }>()
  const row = (name: string) => rows.get(name) ?? rows.set(name, { bars: [], coming: [] }).get(name)!
  for (const run of runs) {
    const from = Date.parse(run.started ?? run.created)
    row(run.type ? run.job : single).bars.push({ run, from, to: run.ended ? Date.parse(run.ended) : now })
  }
  for (const job of jobs) {
    const coming = job.next.map((at) => Date.parse(at)).filter((at) => at < now + 24 * hour)
    if (coming.length > 0) row(job.name).coming.push(...coming)
  }
  const names = [...rows.keys()].sort((a, b) => Number(a === single) - Number(b === single) || a.localeCompare(b))
  if (names.length === 0) return <p className="text-soft">Nothing ran in the last 24 hours, and nothing is scheduled for the next.</p>
  const shown = names.slice(0, mostRows)
  return (
    <div>
      <div>
        <div>
          {shown.map((name) => {
            const { bars, coming } = rows.get(name)!
            return (
              <div key={name} className="grid items-center border-t border-line first:border-t-0" style={{ gridTemplateColumns: columns }}>
                <span className="truncate pr-3" title={name}>
                  {name === single ? <span className="text-soft">{name}</span> : <Link to={`/jobs/${name}`} className="text-plumage hover:underline">{plain(name)}</Link>}
                  <span className="sr-only">
                    {bars.length} runs in the last 24 hours, {coming.length} scheduled in the next
                  </span>
                </span>
                <svg viewBox={`0 0 1000 ${rowHeight}`} preserveAspectRatio="none" className="w-full" style={{ height: rowHeight }} aria-hidden="true">
                  {bars.map(({ run, from, to }) => (
                    <a key={run.id} href={`/runs/${run.id}`} tabIndex={-1}>
                      <rect x={x(from)} y={6} width={Math.max(3, x(to) - x(from))} height={14} className={colours[run.state] ?? 'fill-soft'}>
                        <title>{`${plain(nameOf(run))}: ${run.state}, ${when(run.started ?? run.created)}`}</title>
                      </rect>
                    </a>
                  ))}
                  {coming.map((at) => (
                    <rect key={at} x={x(at)} y={6} width={5} height={14} fill="none" className="stroke-plumage" vectorEffect="non-scaling-stroke">
                      <title>{`${name}: scheduled for ${when(new Date(at).toISOString())}`}</title>
                    </rect>
                  ))}
                  <line x1={500} x2={500} y1={0} y2={rowHeight} className="stroke-ink" strokeWidth={1} vectorEffect="non-scaling-stroke" />
                </svg>
              </div>
            )
          })}
          <div className="grid text-small text-soft" style={{ gridTemplateColumns: columns }} aria-hidden="true">
            <span />
            <span className="relative h-5 border-t border-line">
              {ticksOf(start).map((at, i) => (
                <span key={at} className={`absolute -translate-x-1/2 ${i % 4 === 1 ? '' : 'max-sm:hidden'}`} style={{ left: `${x(at) / 10}%` }}>
                  {new Date(at).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', hourCycle: 'h23' })}
                </span>
              ))}
              <span className="absolute -translate-x-1/2 bg-ground px-1 font-semibold text-ink" style={{ left: '50%' }} data-now={now}>
                now
              </span>
            </span>
          </div>
        </div>
      </div>
      <p className="mt-2 text-small text-soft">
        {names.length > mostRows && `${names.length - mostRows} more jobs are not drawn. `}
        {more && 'Only the latest 1,000 runs are drawn. '}
        <Link to="/runs" className="text-plumage hover:underline">
          All runs
        </Link>
      </p>
    </div>
  )
}
