/** The rows to come, while they are asked for. */
export function Skeleton({ rows }: { rows: number }) {
  return (
    <div role="status" aria-label="Loading" className="grid gap-3 py-2">
      {Array.from({ length: rows }, (_, i) => (
        <div key={i} className="h-3 rounded-md bg-line" style={{ width: `${70 - ((i * 17) % 40)}%` }} />
      ))}
    </div>
  )
}
