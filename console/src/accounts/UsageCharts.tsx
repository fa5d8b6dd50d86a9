import { useMemo } from 'react'
import type uPlot from 'uplot'
import type { AccountUsage } from '../api/client'
import { serviceNow } from '../api/clock'
import { bytes } from '../ui/format'
import Plot, { axisLook, colourOf, fromZero, Key } from '../ui/Plot'

const height = 150
const steps = [600, 1800, 3600, 7200, 14400, 21600, 43200, 86400, 172800, 604800]
const two = (n: number) => String(n).padStart(2, '0')

/** A day where the ticks are days, else the time of day. */
const dates = (_: uPlot, ticks: number[]) =>
  ticks.map((at, i) => {
    const time = new Date(at * 1000)
    const day = `${time.getFullYear()}-${two(time.getMonth() + 1)}-${two(time.getDate())}`
    const hour = `${two(time.getHours())}:${two(time.getMinutes())}`
    const next = ticks[i + 1] ?? ticks[i - 1]
    return next !== undefined && Math.abs(next - at) >= 86400 ? day : hour === '00:00' ? day.slice(5) : hour
  })

/** Intervals as lines of a chart: nothing was done in those that are left out. */
function linesOf(usage: AccountUsage, from: number, values: number[][]): uPlot.AlignedData {
  const at: number[] = []
  const lines: number[][] = values.map(() => [])
  const add = (time: number, of?: number) => {
    at.push(time)
    values.forEach((one, i) => lines[i]!.push(of === undefined ? 0 : one[of]! / usage.every))
  }
  const now = Math.floor(serviceNow() / 1000)
  add(from)
  usage.at.forEach((start, i) => {
    if (start > at[at.length - 1]! + usage.every) add(start - 1)
    add(start, i)
    add(Math.min(now, start + usage.every - 1), i)
    if (usage.at[i + 1] !== start + usage.every) add(Math.min(now, start + usage.every))
  })
  if (now > at[at.length - 1]!) add(now)
  return [at, ...lines]
}

function useLook(format: (n: number) => string, lines: { label: string; colour: 'plumage' | 'dusk' | 'ochre' | 'soft'; dash?: number[]; fill?: boolean }[]) {
  return () => {
    const axis = axisLook()
    return {
      scales: { x: { time: true }, y: { range: fromZero } },
      axes: [
        { ...axis, space: 96, incrs: steps, values: dates },
        { ...axis, size: 92, values: (_: uPlot, ticks: number[]) => ticks.map(format) },
      ] satisfies uPlot.Axis[],
      series: [
        {},
        ...lines.map((line) => {
          const stroke = colourOf(line.colour)
          return { label: line.label, stroke, width: line.fill ? 2 : 1.5, dash: line.dash, fill: line.fill ? `color-mix(in srgb, ${stroke} 14%, transparent)` : undefined, points: { show: false } }
        }),
      ],
    }
  }
}

/** The space, the network rate and the requests of an account over the last days. */
export default function UsageCharts({ usage, days }: { usage: AccountUsage; days: number }) {
  const from = Math.floor(serviceNow() / 1000) - days * 86400
  const rates = useMemo(() => linesOf(usage, from, [usage.down, usage.up]), [usage, from])
  const requests = useMemo(() => linesOf(usage, from, [usage.requests, usage.slow_downs]), [usage, from])
  const limited = usage.space.some((one) => one.total > 0)
  const space = useMemo<uPlot.AlignedData>(
    () => [usage.space.map((one) => one.at), usage.space.map((one) => one.used), ...(limited ? [usage.space.map((one) => (one.total > 0 ? one.total : null))] : [])],
    [usage, limited],
  )
  const rateLook = useLook((n) => `${bytes(n)}/s`, [{ label: 'Received', colour: 'plumage', fill: true }, { label: 'Sent', colour: 'dusk', dash: [6, 3] }])
  const requestLook = useLook((n) => `${n.toLocaleString('en', { maximumFractionDigits: n < 1 ? 2 : 1 })} /s`, [{ label: 'Requests', colour: 'plumage', fill: true }, { label: '“Slow down” answers', colour: 'ochre' }])
  const spaceLook = useLook(bytes, [{ label: 'Used', colour: 'plumage', fill: true }, ...(limited ? [{ label: 'Total', colour: 'soft' as const, dash: [6, 3] }] : [])])
  return (
    <div className="grid gap-4">
      {usage.space.length > 1 ? (
        <div>
        <h3 className="text-small text-soft">Space</h3>
        <Plot make={spaceLook} data={space} height={height} label="Space over time; the table has the same figures">
          <Key colour="plumage">Used</Key>
          {limited && <Key colour="soft" dashed>Total</Key>}
        </Plot>
        </div>
      ) : (
        <p className="text-soft">The space is measured about once an hour. The chart begins with the second measurement.</p>
      )}
      {usage.at.length > 0 ? (
        <>
          <h3 className="-mb-4 text-small text-soft">Network rate</h3>
          <Plot make={rateLook} data={rates} height={height} label="Network rate over time; the table has the same figures">
            <Key colour="plumage">Received from the account</Key>
            <Key colour="dusk" dashed>Sent to the account</Key>
          </Plot>
          <h3 className="-mb-4 text-small text-soft">Requests a second</h3>
          <Plot make={requestLook} data={requests} height={height} label="Requests over time; the table has the same figures">
            <Key colour="plumage">Requests</Key>
            <Key colour="ochre">Answers that asked to slow down</Key>
          </Plot>
        </>
      ) : (
        <p className="text-soft">Nothing went over the network to or from this account in this time.</p>
      )}
    </div>
  )
}
