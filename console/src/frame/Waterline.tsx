import { Link } from 'react-router'
import { useAccounts } from '../accounts/queries'
import { useJobs } from '../jobs/queries'
import { useLive } from '../live/live'
import { bytes, some } from '../ui/format'

const width = 600
const height = 20

/** The rate of everything that moves, over the last ten minutes. */
export function Waterline() {
  const { progress, rates } = useLive()
  const most = Math.max(1, ...rates)
  const step = width / Math.max(1, rates.length - 1)
  const points = rates.map((rate, i) => `${(i * step).toFixed(1)},${(height - 1 - (rate / most) * (height - 3)).toFixed(1)}`)
  const running = progress.running.length
  const expired = useAccounts().data?.filter((account) => account.state === 'sign-in-expired').length ?? 0
  const held = useJobs().data?.held ?? 0
  const only = running === 1 ? progress.running[0] : undefined
  return (
    <div className="flex h-6 items-center border-b border-line bg-panel text-small">
      <Link
        to={only ? `/runs/${only}` : '/runs'}
        className="flex h-6 min-w-0 flex-1 items-center gap-3 px-4 text-soft hover:text-ink"
        title="Transfer rate now and over the last ten minutes. Opens the running runs."
      >
        <svg viewBox={`0 0 ${width} ${height}`} preserveAspectRatio="none" className="h-5 min-w-0 flex-1 text-plumage" aria-hidden="true">
          <polygon points={`0,${height} ${points.join(' ')} ${width},${height}`} fill="currentColor" opacity="0.15" />
          <polyline points={points.join(' ')} fill="none" stroke="currentColor" strokeWidth="1.4" vectorEffect="non-scaling-stroke" />
        </svg>
        <span className={`w-24 text-right whitespace-nowrap ${progress.rate > 0 ? 'text-plumage' : ''}`}>{bytes(Math.round(progress.rate))}/s</span>
        <span className="whitespace-nowrap">{running ? `${some(running, 'run')} running` : progress.transfers.length > 0 ? `${some(progress.transfers.length, 'file')} in flight` : progress.rate > 0 ? 'transferring' : 'idle'}</span>
      </Link>
      {held > 0 && (
        <Link to="/runs" className="pr-4 whitespace-nowrap text-ochre hover:underline" title="Runs that wait for your decision.">
          {some(held, 'run')} held
        </Link>
      )}
      {expired > 0 && (
        <Link to="/accounts" className="pr-4 whitespace-nowrap text-ochre hover:underline" title="Expired sign-ins. Runs that need these accounts are held.">
          {some(expired, 'account')} to reauthorize
        </Link>
      )}
    </div>
  )
}
