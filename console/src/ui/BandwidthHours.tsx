import { useId, useState } from 'react'
import { Button } from './Button'
import { Field } from './Field'
import type { Limits } from './hours'
import { WeekGrid } from './WeekGrid'

type Hours = NonNullable<Limits['hours']>

type Props = { value: Limits['hours']; onChange: (hours: Limits['hours']) => void }

/** Bandwidth limits at hours of the week: each with its rate, and its hours as text and as a grid. */
export function BandwidthHours({ value, onChange }: Props) {
  const [open, setOpen] = useState<number>()
  const id = useId()
  const rows: Hours = value ?? []
  const set = (i: number, change: Partial<Hours[number]>) => onChange(rows.map((row, n) => (n === i ? { ...row, ...change } : row)))
  const drop = (i: number) => {
    const next = rows.filter((_, n) => n !== i)
    setOpen(undefined)
    onChange(next.length ? next : undefined)
  }
  return (
    <fieldset className="grid gap-2">
      <legend className="text-small text-soft">Limits at hours of the week{rows.length > 1 && '; the first that matches counts'}</legend>
      {rows.map((row, i) => (
        <div key={i} className="grid gap-2">
          <div className="grid grid-cols-[minmax(0,2fr)_minmax(0,1fr)_auto_auto] items-end gap-2">
            <Field label="Hours" placeholder="mon-fri 08-18" mono value={row.when} onChange={(event) => set(i, { when: event.target.value })} />
            <Field label="Rate" placeholder="5MB/s" mono value={row.rate} onChange={(event) => set(i, { rate: event.target.value })} />
            <Button aria-expanded={open === i} aria-controls={`${id}-${i}`} onClick={() => setOpen(open === i ? undefined : i)}>
              Grid
            </Button>
            <Button onClick={() => drop(i)} aria-label={`Remove the limit of ${row.when || 'no hours'}`}>
              Remove
            </Button>
          </div>
          <div id={`${id}-${i}`}>{open === i && <WeekGrid label={`Limit ${i + 1}`} value={row.when} onChange={(when) => set(i, { when })} />}</div>
        </div>
      ))}
      <div>
        <Button
          onClick={() => {
            onChange([...rows, { when: '', rate: '' }])
            setOpen(rows.length)
          }}
        >
          Add a limit at hours
        </Button>
      </div>
    </fieldset>
  )
}
