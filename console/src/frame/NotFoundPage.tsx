import { Link, useLocation } from 'react-router'
import { offered, places } from './places'

/** A wrong address: which step of it does not exist, and the nearest that does. */
export function NotFoundPage() {
  const { pathname } = useLocation()
  const step = pathname.split('/')[1] ?? ''
  const nearest = [...places, ...offered(true)].reduce((best, one) => (distance(step, one.to.slice(1)) < distance(step, best.to.slice(1)) ? one : best), places[0]!)
  return (
    <div className="py-8">
      <h1 className="text-title font-semibold">No such page</h1>
      <p className="mt-2">
        There is no page <span className="font-mono text-small break-all">/{step}</span>. The nearest is{' '}
        <Link to={nearest.to} className="text-plumage hover:underline">
          {nearest.text}
        </Link>
        .
      </p>
    </div>
  )
}

/** How many letters have to be changed to make one word of the other. */
export function distance(a: string, b: string): number {
  let row = Array.from({ length: b.length + 1 }, (_, i) => i)
  for (let i = 1; i <= a.length; i++) {
    const next = [i]
    for (let j = 1; j <= b.length; j++) next[j] = Math.min(next[j - 1]! + 1, row[j]! + 1, row[j - 1]! + (a[i - 1] === b[j - 1] ? 0 : 1))
    row = next
  }
  return row[b.length]!
}
