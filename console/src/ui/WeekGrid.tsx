import { useMutation, useQuery } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { api, data } from '../api/client'
import { useSettled } from './settled'
import { Button } from './Button'

const days = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']
const names = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday']

const grid = (covers: (day: number, hour: number) => boolean) => Array.from({ length: 168 }, (_, i) => (covers(Math.floor(i / 24), i % 24) ? '1' : '0')).join('')

const presets: { title: string; cells: string }[] = [
  { title: 'Nights', cells: grid((_, hour) => hour >= 22 || hour < 6) },
  { title: 'Weekends', cells: grid((day) => day >= 5) },
  { title: 'Office hours', cells: grid((day, hour) => day < 5 && hour >= 8 && hour < 18) },
  { title: 'All hours', cells: grid(() => true) },
]

type Props = { label: string; value: string; onChange: (text: string) => void; clearTitle?: string }

/** Hours of the week as cells, painted with the pointer or the keyboard. The service reads and writes the text. */
export function WeekGrid({ label, value, onChange, clearTitle = 'Clear' }: Props) {
  const settled = useSettled(value)
  const read = useQuery({ queryKey: ['week', settled], queryFn: () => data(api.POST('/api/v1/schedules/week', { body: { text: settled } })), retry: false, staleTime: Infinity })
  const [cells, setCells] = useState(grid(() => false))
  const [at, setAt] = useState({ day: 0, hour: 8 })
  const painting = useRef<{ on: boolean; cells: string }>(undefined)
  const written = useRef('')
  const latest = useRef(value)
  latest.current = value
  useEffect(() => {
    if (read.data?.cells && settled === value && settled !== written.current) setCells(read.data.cells)
  }, [read.data, settled, value])
  const write = useMutation({
    mutationFn: async (next: string) => {
      const before = latest.current
      const answer = await data(api.POST('/api/v1/schedules/week', { body: { cells: next } }))
      return { ...answer, stale: latest.current !== before }
    },
    onSuccess: (answer) => {
      if (answer.stale) return // somebody typed meanwhile, which counts
      written.current = answer.text ?? ''
      onChange(answer.text ?? '')
    },
  })
  const set = (next: string) => {
    setCells(next)
    write.mutate(next)
  }
  const paint = (day: number, hour: number) => {
    const stroke = painting.current
    if (!stroke) return
    const i = day * 24 + hour
    stroke.cells = stroke.cells.slice(0, i) + (stroke.on ? '1' : '0') + stroke.cells.slice(i + 1)
    setCells(stroke.cells)
    setAt({ day, hour })
  }
  const end = () => {
    const stroke = painting.current
    painting.current = undefined
    if (stroke) write.mutate(stroke.cells)
  }
  const onKeyDown = (event: React.KeyboardEvent) => {
    const moves: Record<string, [number, number]> = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0], Home: [0, -at.hour], End: [0, 23 - at.hour] }
    const move = moves[event.key]
    if (move) {
      const next = { day: Math.max(0, Math.min(6, at.day + move[0])), hour: Math.max(0, Math.min(23, at.hour + move[1])) }
      if (event.shiftKey) {
        // Shift takes the state of the cell along.
        const on = cells[at.day * 24 + at.hour]!
        const [from, to] = [Math.min(at.hour, next.hour), Math.max(at.hour, next.hour)]
        let painted = cells
        for (const day of new Set([at.day, next.day])) for (let hour = from; hour <= to; hour++) painted = painted.slice(0, day * 24 + hour) + on + painted.slice(day * 24 + hour + 1)
        set(painted)
      }
      setAt(next)
    } else if (event.key === ' ' || event.key === 'Enter') {
      const i = at.day * 24 + at.hour
      set(cells.slice(0, i) + (cells[i] === '1' ? '0' : '1') + cells.slice(i + 1))
    } else return
    event.preventDefault()
  }
  const idOf = (day: number, hour: number) => `${label.replaceAll(/\W/g, '-')}-${day}-${hour}`
  const inexact = read.data && settled === value && !read.data.exact && value !== ''
  return (
    <div>
      <div className="flex flex-wrap items-center gap-2 pb-1">
        {presets.map((preset) => (
          <Button key={preset.title} look="quiet" onClick={() => set(preset.cells)}>
            {preset.title}
          </Button>
        ))}
        <Button look="quiet" onClick={() => set(grid(() => false))}>
          {clearTitle}
        </Button>
      </div>
      <div
        role="grid"
        aria-label={`${label}: hours of the week`}
        aria-activedescendant={idOf(at.day, at.hour)}
        tabIndex={0}
        onKeyDown={onKeyDown}
        onPointerUp={end}
        onPointerLeave={end}
        className="max-w-[720px] touch-none select-none"
      >
        {days.map((day, d) => (
          <div key={day} role="row" className="grid grid-cols-[36px_repeat(24,minmax(0,1fr))] items-center">
            <span role="rowheader" aria-label={names[d]} className="text-small text-soft">
              {day}
            </span>
            {Array.from({ length: 24 }, (_, hour) => {
              const on = cells[d * 24 + hour] === '1'
              const here = at.day === d && at.hour === hour
              return (
                <span
                  key={hour}
                  id={idOf(d, hour)}
                  role="gridcell"
                  aria-selected={on}
                  aria-label={`${names[d]} ${String(hour).padStart(2, '0')}:00`}
                  data-cell={`${d}-${hour}`}
                  onPointerDown={(event) => {
                    event.currentTarget.releasePointerCapture?.(event.pointerId)
                    painting.current = { on: !on, cells }
                    paint(d, hour)
                  }}
                  onPointerEnter={(event) => event.buttons === 1 && paint(d, hour)}
                  className={`h-5 border-r border-b border-line ${hour % 6 === 0 ? 'border-l-2' : ''} ${on ? 'bg-plumage' : 'bg-panel'} ${here ? 'outline-2 -outline-offset-2 outline-ink' : ''}`}
                />
              )
            })}
          </div>
        ))}
        <div aria-hidden="true" className="grid grid-cols-[36px_repeat(4,minmax(0,1fr))] text-small text-soft">
          <span />
          {['00', '06', '12', '18'].map((hour) => (
            <span key={hour}>{hour}</span>
          ))}
        </div>
      </div>
      {read.isError && value !== '' && settled === value && <p className="text-small text-ochre">The grid cannot show this text. {read.error.message}</p>}
      {inexact && <p className="text-small text-ochre">The text has parts of hours. The grid shows whole hours; painting it replaces the text.</p>}
    </div>
  )
}
