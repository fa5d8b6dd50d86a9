import { useEffect, useRef, useState } from 'react'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import type { RunEvent, RunSeries } from '../api/client'
import { bytes, count } from '../ui/format'

const height = 220

const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()

/** What a style sheet says of a colour, as one that a canvas takes. */
function resolved(name: string): string {
  const probe = document.createElement('span')
  probe.style.color = colour(name)
  document.body.append(probe)
  const found = getComputedStyle(probe).color
  probe.remove()
  return found
}

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

/** The rates of a run over its whole life, with marks for what happened to it. */
export default function Chart({ series, events }: { series: RunSeries; events: RunEvent[] }) {
  const box = useRef<HTMLDivElement>(null)
  const plot = useRef<uPlot>(undefined)
  const latest = useRef({ series, events })
  latest.current = { series, events }
  const [theme, setTheme] = useState(0)
  useEffect(() => {
    const again = () => setTheme((n) => n + 1)
    const dark = matchMedia('(prefers-color-scheme: dark)')
    dark.addEventListener('change', again)
    const root = new MutationObserver(again)
    root.observe(document.documentElement, { attributes: true, attributeFilter: ['data-theme'] })
    return () => {
      dark.removeEventListener('change', again)
      root.disconnect()
    }
  }, [])
  useEffect(() => {
    const inside = box.current!
    const [ink, line, plumage, dusk] = ['soft', 'line', 'plumage', 'dusk'].map(resolved) as [string, string, string, string]
    const font = '13px "Atkinson Hyperlegible Next Variable", system-ui, sans-serif'
    const axis = { stroke: ink, font, grid: { stroke: line, width: 1 }, ticks: { stroke: line, width: 1 } }
    const made = new uPlot(
      {
        width: inside.clientWidth, height,
        legend: { show: false },
        cursor: { y: false, drag: { x: true, y: false } },
        scales: { x: { time: true }, bytes: { range: (_, __, max) => [0, Math.max(1, max) * 1.1] }, items: { range: (_, __, max) => [0, Math.max(1, max) * 1.1] } },
        axes: [
          { ...axis, space: 96, incrs: [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 21600, 43200, 86400, 172800, 604800], values: (_, ticks) => ticks.map((at) => new Date(at * 1000).toLocaleTimeString([], { hour: '2-digit', minute: '2-digit', second: '2-digit', hourCycle: 'h23' })) },
          { ...axis, scale: 'bytes', size: 92, values: (_, ticks) => ticks.map((n) => `${bytes(n)}/s`) },
          { ...axis, scale: 'items', side: 1, size: 78, grid: { show: false }, values: (_, ticks) => ticks.map((n) => `${count(n)} /s`) },
        ],
        series: [{}, { label: 'Bytes a second', scale: 'bytes', stroke: plumage, fill: `color-mix(in srgb, ${plumage} 14%, transparent)`, width: 2, points: { show: false } }, { label: 'Items a second', scale: 'items', stroke: dusk, width: 1.5, dash: [6, 3], points: { show: false } }],
        hooks: {
          draw: [
            (u) => {
              const { series, events } = latest.current
              const ctx = u.ctx
              ctx.save()
              ctx.font = `${13 * devicePixelRatio}px "Atkinson Hyperlegible Next Variable", sans-serif`
              let free = -Infinity
              for (const mark of marksOf(series, events)) {
                const x = u.valToPos(mark.at, 'x', true)
                if (x < u.bbox.left || x > u.bbox.left + u.bbox.width) continue
                ctx.strokeStyle = ctx.fillStyle = resolved(mark.colour)
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
            },
          ],
        },
      },
      pointsOf(latest.current.series),
      inside,
    )
    plot.current = made
    const resize = new ResizeObserver(() => made.setSize({ width: inside.clientWidth, height }))
    resize.observe(inside)
    return () => {
      resize.disconnect()
      made.destroy()
      plot.current = undefined
    }
  }, [theme])
  useEffect(() => plot.current?.setData(pointsOf(series)), [series])
  return (
    <figure className="min-w-0">
      <div ref={box} className="min-w-0 overflow-hidden" style={{ minHeight: height }} role="img" aria-label="Rates over the whole run; the table has the same figures" />
      <figcaption className="flex flex-wrap gap-x-6 text-small text-soft">
        <span>
          <span className="mr-2 inline-block h-0.5 w-5 bg-plumage align-middle" aria-hidden="true" />
          Bytes a second
        </span>
        <span>
          <span className="mr-2 inline-block w-5 border-t-2 border-dashed border-dusk align-middle" aria-hidden="true" />
          Items a second
        </span>
      </figcaption>
    </figure>
  )
}
