import { useVirtualizer } from '@tanstack/react-virtual'
import { type ReactNode, useEffect, useRef } from 'react'

type Props<Row> = {
  label: string
  rows: Row[]
  keyOf: (row: Row) => string | number
  /** The expected height of a row in pixels; it is measured once it is drawn. */
  heightOf: (row: Row) => number
  children: (row: Row) => ReactNode
  /** Whether there are more rows to be asked for, and how. */
  more?: boolean
  onMore: () => void
}

/** A list of which only the rows in sight are drawn. It asks for more before its end is seen. */
export function VirtualRows<Row>({ label, rows, keyOf, heightOf, children, more, onMore }: Props<Row>) {
  const box = useRef<HTMLDivElement>(null)
  const list = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => heightOf(rows[i]!),
    overscan: 10,
    getItemKey: (i) => (rows[i] === undefined ? i : keyOf(rows[i])),
  })
  const shown = list.getVirtualItems()
  const last = shown[shown.length - 1]?.index ?? 0
  useEffect(() => {
    if (last > rows.length - 100 && more) onMore()
  }, [last, rows.length, more, onMore])
  return (
    <div ref={box} tabIndex={0} role="list" aria-label={label} className="min-h-0 flex-1 overflow-auto">
      <div style={{ height: list.getTotalSize(), position: 'relative' }}>
        {shown.map((row) => (
          <div
            key={row.key}
            ref={list.measureElement}
            data-index={row.index}
            role="listitem"
            style={{ position: 'absolute', top: row.start, left: 0, right: 0 }}
            className="border-b border-line"
          >
            {children(rows[row.index]!)}
          </div>
        ))}
      </div>
    </div>
  )
}
