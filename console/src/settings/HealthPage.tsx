import { useQuery } from '@tanstack/react-query'
import { api, data } from '../api/client'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'

const words = { good: 'good', warning: 'warning', failed: 'failed' } as const
const colours = { good: 'text-reed', warning: 'text-ochre', failed: 'text-brick' } as const

/** What was found about the service and its machine. */
export function HealthPage() {
  const found = useQuery({ queryKey: ['diagnosis'], queryFn: () => data(api.GET('/api/v1/diagnosis')) })
  return (
    <>
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-title font-semibold">Health</h1>
        <Button onClick={() => void found.refetch()} disabled={found.isFetching}>
          Check again
        </Button>
      </div>
      <p className="max-w-3xl text-soft">
        The service’s records, disk, permissions, clock, limits, helper programs and accounts{found.data ? `, checked at ${when(found.data.at)}` : ''}.
      </p>
      {found.isError && <Failed error={found.error} />}
      {found.isPending && <Skeleton rows={6} />}
      {found.data && (
        <table className="mt-2 w-full max-w-5xl">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-4 font-normal">Check</th>
              <th className="py-1 pr-4 font-normal">State</th>
              <th className="py-1 font-normal">Found</th>
            </tr>
          </thead>
          <tbody>
            {found.data.checks.map((one, i) => (
              <tr key={i} className="border-b border-line align-top">
                <td className="py-1.5 pr-4">{one.name}</td>
                <td className={`py-1.5 pr-4 ${colours[one.state]}`}>{words[one.state]}</td>
                <td className="py-1.5">
                  {one.found}
                  {one.remedy && <span className="block text-soft">{one.remedy}</span>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  )
}
