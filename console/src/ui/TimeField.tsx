import { serviceNow } from '../api/clock'

/** A time in the form of the browser's own field, on the clock of this machine. */
export function local(at: string): string {
  const time = new Date(at)
  return new Date(time.getTime() - time.getTimezoneOffset() * 60_000).toISOString().slice(0, 19)
}

type Props = { label: string; value?: string; onChange: (at: string | undefined) => void }

/** A time in the past, or none. */
export function TimeField({ label, value, onChange }: Props) {
  return (
    <label className="grid gap-1">
      <span className="text-small text-soft">{label}</span>
      <input
        type="datetime-local"
        step={1}
        value={value ? local(value) : ''}
        max={local(new Date(serviceNow()).toISOString())}
        onChange={(event) => onChange(event.target.value ? new Date(event.target.value).toISOString() : undefined)}
        className="h-8 w-60 max-w-full rounded-md border border-line bg-ground px-2"
      />
    </label>
  )
}
