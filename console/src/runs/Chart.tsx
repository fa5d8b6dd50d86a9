import { useMemo, useRef } from 'react'
import type uPlot from 'uplot'
import type { RunEvent, RunSeries } from '../api/client'
import { bytes, count } from '../ui/format'
import Plot, { axisLook, colourOf, fromZero, Key } from '../ui/Plot'

const height = 220

/** Points of uPlot: seconds, bytes a second, items a second. A pause is a gap. */
export function pointsOf(series: RunSeries): [number[], (number | null)[], (number | null)[]] {
  const at: number[] = []
  const rate: (number | null)[] = []
  const items: (number | null)[] = []
  series.at.forEach((end, i) => {
    const span = series.span[i]!
    const from = (series.started + end - span) / 1000
    const before = at[at.length - 1]
    if (before === undefined || from > before + 0.5) {
      if (before !== undefined) {
        at.push(before + 0.001)
        rate.push(null)
        items.push(null)
      }
      at.push(Math.max(from, (before ?? 0) + 0.002))
      rate.push((series.bytes[i]! * 1000) / span)
      items.push((series.items[i]! * 1000) / span)
    }
    at.push((series.started + end) / 1000)
    rate.push((series.bytes[i]! * 1000) / span)
    items.push((series.items[i]! * 1000) / span)
  })
  return [at, rate, items]
}

type Mark = { at: number; text: string; colour: string }

function marksOf(series: RunSeries, events: RunEvent[]): Mark[] {
  const marks: Mark[] = []
  for (const event of events) {
    const at = Date.parse(event.at) / 1000
    if (event.what === 'paused') marks.push({ at, text: 'paused', colour: 'soft' })
    if (event.what === 'held') marks.push({ at, text: 'held', colour: 'ochre' })
    if (event.what === 'bandwidth') marks.push({ at, text: 'limit', colour: 'dusk' })
  }
  series.at.forEach((end, i) => {
    const at = (series.started + end) / 1000
    if (series.slow_downs[i]! > 0) marks.push({ at, text: 'slow down', colour: 'ochre' })
    else if (series.retries[i]! > 0) marks.push({ at, text: 'retry', colour: 'brick' })
  })
  return marks
}

const steps = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 21600, 43200, 86400, 172800, 604800]
const clock = (at: number) => new Date(at * 1000).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second: '2-digit', hourCycle: 'h23' })

/** The rates of a run over its whole life, with marks for what happened to it. */
export default function Chart({ series, events }: { series: RunSeries; events: RunEvent[] }) {
  const latest = useRef({ series, events })
  latest.current = { series, events }
  const data = useMemo(() => pointsOf(series), [series])
  const draw = (u: uPlot) => {
    const { ctx } = u
    ctx.save()
    ctx.font = `${13 * devicePixelRatio}px "Atkinson Hyperlegible Next Variable", sans-serif`
    let free = -Infinity
    for (const mark of marksOf(latest.current.series, latest.current.events)) {
      const x = u.valToPos(mark.at, 'x', true)
      if (x < u.bbox.left || x > u.bbox.left + u.bbox.width) continue
      ctx.strokeStyle = ctx.fillStyle = colourOf(mark.colour)
      ctx.beginPath()
      ctx.moveTo(x, u.bbox.top)
      ctx.lineTo(x, u.bbox.top + 8 * devicePixelRatio)
      ctx.stroke()
      if (x > free) {
        ctx.fillText(mark.text, x + 3, u.bbox.top + 12 * devicePixelRatio)
        free = x + ctx.measureText(mark.text).width + 12
      }
    }
    ctx.restore()
  }
  const make = () => {
    const axis = axisLook()
    const plumage = colourOf('plumage')
    return {
      scales: { x: { time: true }, bytes: { range: fromZero }, items: { range: fromZero } },
      axes: [
        { ...axis, space: 96, incrs: steps, values: (_: uPlot, ticks: number[]) => ticks.map(clock) },
        { ...axis, scale: 'bytes', size: 92, values: (_: uPlot, ticks: number[]) => ticks.map((n) => `${bytes(n)}/s`) },
        { ...axis, scale: 'items', side: 1, size: 78, grid: { show: false }, values: (_: uPlot, ticks: number[]) => ticks.map((n) => `${count(n)} /s`) },
      ] satisfies uPlot.Axis[],
      series: [
        {},
        { label: 'Bytes a second', scale: 'bytes', stroke: plumage, fill: `color-mix(in srgb, ${plumage} 14%, transparent)`, width: 2, points: { show: false } },
        { label: 'Items a second', scale: 'items', stroke: colourOf('dusk'), width: 1.5, dash: [6, 3], points: { show: false } },
      ],
      hooks: { draw: [draw] },
    }
  }
  return (
    <Plot make={make} data={data} height={height} label="Rates over the whole run; the table has the same figures">
      <Key colour="plumage">Bytes a second</Key>
      <Key colour="dusk" dashed>
        Items a second
      </Key>
    </Plot>
  )
}
