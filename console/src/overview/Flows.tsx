import { useQuery } from '@tanstack/react-query'
import { sankey, sankeyLinkHorizontal } from 'd3-sankey'
import { Link, useNavigate } from 'react-router'
import { api, data } from '../api/client'
import { Failed } from '../ui/Banner'
import { bytes, count, plain } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'

type Node = { id: string; name: string; side: 'from' | 'to' }
type Band = { source: string; target: string; value: number; job: string; from: string; to: string; runs: number }

const single = 'single copies'
const width = 1000
const nodeWidth = 10

/** Which account sent how much to which, by job: bands, and a table of the same figures. */
export default function Flows() {
  const navigate = useNavigate()
  const flows = useQuery({ queryKey: ['runs', 'flows'], queryFn: () => data(api.GET('/api/v1/flows', { params: { query: { days: 30 } } })) })
  if (flows.isPending) return <Skeleton rows={4} />
  if (flows.isError) return <Failed error={flows.error} />
  const sums = new Map<string, Band>()
  for (const day of flows.data) {
    const job = day.job || single
    const key = `${job} ${day.from} ${day.to}`
    const band = sums.get(key) ?? { source: `from ${day.from}`, target: `to ${day.to}`, value: 0, job, from: day.from, to: day.to, runs: 0 }
    sums.set(key, { ...band, value: band.value + day.bytes, runs: band.runs + day.runs })
  }
  const bands = [...sums.values()].sort((a, b) => b.value - a.value).slice(0, 40)
  if (bands.length === 0) return <p className="text-soft">Nothing was transferred in the last 30 days.</p>
  const ids = new Map<string, Node>()
  for (const band of bands) {
    ids.set(band.source, { id: band.source, name: band.from, side: 'from' })
    ids.set(band.target, { id: band.target, name: band.to, side: 'to' })
  }
  const height = Math.max(90, Math.ceil(ids.size / 2) * 44)
  const layout = sankey<Node, Band>()
    .nodeId((node) => node.id)
    .nodeWidth(nodeWidth)
    .nodePadding(16)
    .extent([[160, 4], [width - 160, height - 4]])({ nodes: [...ids.values()].map((node) => ({ ...node })), links: bands.map((band) => ({ ...band })) })
  const path = sankeyLinkHorizontal<Node, Band>()
  const open = (job: string) => void navigate(job === single ? '/runs' : `/jobs/${job}`)
  return (
    <div className="grid gap-6 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
      <svg viewBox={`0 0 ${width} ${height}`} className="hidden w-full sm:block" role="img" aria-label="Bytes from account to account; the table has the same figures">
        {layout.links.map((link) => (
          <path
            key={`${link.job} ${link.from} ${link.to}`}
            d={path(link) ?? ''}
            fill="none"
            className="cursor-pointer stroke-plumage opacity-35 hover:opacity-60"
            strokeWidth={Math.max(1.5, link.width ?? 0)}
            onClick={() => open(link.job)}
          >
            <title>{`${link.job}: ${bytes(link.value)} from /${link.from} to /${link.to}`}</title>
          </path>
        ))}
        {layout.nodes.map((node) => (
          <g key={node.id}>
            <rect x={node.x0} y={node.y0} width={nodeWidth} height={Math.max(2, (node.y1 ?? 0) - (node.y0 ?? 0))} className="fill-ink" />
            <text x={node.side === 'from' ? (node.x0 ?? 0) - 8 : (node.x1 ?? 0) + 8} y={((node.y0 ?? 0) + (node.y1 ?? 0)) / 2} dy="0.35em" textAnchor={node.side === 'from' ? 'end' : 'start'} className="fill-ink text-base">
              /{node.name}
            </text>
          </g>
        ))}
      </svg>
      <div className="max-h-80 overflow-auto" tabIndex={0} role="region" aria-label="Table of what was transferred">
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 font-normal">Job</th>
              <th className="py-1 pl-4 font-normal">From and to</th>
              <th className="py-1 pl-4 text-right font-normal">Runs</th>
              <th className="py-1 pl-4 text-right font-normal">Transferred</th>
            </tr>
          </thead>
          <tbody>
            {bands.map((band) => (
              <tr key={`${band.job} ${band.from} ${band.to}`} className="h-8 border-b border-line">
                <td className="py-1">
                  {band.job === single ? band.job : <Link to={`/jobs/${band.job}`} className="text-plumage hover:underline">{plain(band.job)}</Link>}
                </td>
                <td className="py-1 pl-4 font-mono text-small break-all">
                  /{band.from} → /{band.to}
                </td>
                <td className="py-1 pl-4 text-right">{count(band.runs)}</td>
                <td className="py-1 pl-4 text-right whitespace-nowrap">{bytes(band.value)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  )
}
