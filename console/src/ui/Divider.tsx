import { useRef } from 'react'

type Props = { label: string; value: number; least: number; most: number; onChange: (value: number) => void }

/** A line between two parts of the page, dragged or moved by the arrow keys. */
export function Divider({ label, value, least, most, onChange }: Props) {
  const from = useRef<{ x: number; value: number }>(undefined)
  const set = (next: number) => onChange(Math.max(least, Math.min(most, Math.round(next))))
  return (
    <div
      role="separator"
      aria-label={label}
      aria-orientation="vertical"
      aria-valuenow={value}
      aria-valuemin={least}
      aria-valuemax={most}
      tabIndex={0}
      className="hidden w-2 shrink-0 cursor-col-resize border-r border-line hover:border-plumage md:block"
      onPointerDown={(event) => {
        from.current = { x: event.clientX, value }
        event.currentTarget.setPointerCapture(event.pointerId)
      }}
      onPointerMove={(event) => from.current && set(from.current.value + event.clientX - from.current.x)}
      onPointerUp={() => (from.current = undefined)}
      onKeyDown={(event) => {
        if (event.key !== 'ArrowLeft' && event.key !== 'ArrowRight') return
        event.preventDefault()
        set(value + (event.key === 'ArrowLeft' ? -16 : 16))
      }}
    />
  )
}
