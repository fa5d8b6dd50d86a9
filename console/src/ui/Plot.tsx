import { type ReactNode, useEffect, useRef, useState } from 'react'
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'

const token = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim()

/** A colour of the theme as a canvas takes it. */
export function colourOf(name: string): string {
  const probe = document.createElement('span')
  probe.style.color = token(name)
  document.body.append(probe)
  const found = getComputedStyle(probe).color
  probe.remove()
  return found
}

/** The common look of an axis. */
export function axisLook(): uPlot.Axis {
  const line = colourOf('line')
  return { stroke: colourOf('soft'), font: '13px "Atkinson Hyperlegible Next Variable", system-ui, sans-serif', grid: { stroke: line, width: 1 }, ticks: { stroke: line, width: 1 } }
}

/** From zero to a little above the largest value. */
export const fromZero: uPlot.Scale.Range = (_, __, max) => [0, Math.max(1, max) * 1.1]

type Props = { make: () => Omit<uPlot.Options, 'width' | 'height'>; data: uPlot.AlignedData; height: number; label: string; children?: ReactNode }

/** A chart over time, in the colours of the theme, as wide as there is room. */
export default function Plot({ make, data, height, label, children }: Props) {
  const box = useRef<HTMLDivElement>(null)
  const plot = useRef<uPlot>(undefined)
  const latest = useRef({ make, data })
  latest.current = { make, data }
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
    const made = new uPlot({ legend: { show: false }, cursor: { y: false, drag: { x: true, y: false } }, ...latest.current.make(), width: inside.clientWidth, height }, latest.current.data, inside)
    plot.current = made
    const resize = new ResizeObserver(() => made.setSize({ width: inside.clientWidth, height }))
    resize.observe(inside)
    return () => {
      resize.disconnect()
      made.destroy()
      plot.current = undefined
    }
  }, [theme, height])
  useEffect(() => plot.current?.setData(data), [data])
  return (
    <figure className="min-w-0">
      <div ref={box} className="min-w-0 overflow-hidden" style={{ minHeight: height }} role="img" aria-label={label} />
      {children && <figcaption className="flex flex-wrap gap-x-6 text-small text-soft">{children}</figcaption>}
    </figure>
  )
}

/** What a line of a chart stands for. */
export function Key({ colour, dashed, children }: { colour: 'plumage' | 'dusk' | 'ochre' | 'soft'; dashed?: boolean; children: ReactNode }) {
  const line = { plumage: 'border-plumage', dusk: 'border-dusk', ochre: 'border-ochre', soft: 'border-soft' }[colour]
  return (
    <span>
      <span className={`mr-2 inline-block w-5 border-t-2 align-middle ${dashed ? 'border-dashed' : ''} ${line}`} aria-hidden="true" />
      {children}
    </span>
  )
}
