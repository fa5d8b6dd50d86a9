import type { Run } from '../api/client'

/** A run as people know it: by its job, or for a single copy by what it copies. */
export function nameOf(run: Run): string {
  const route = run.routes[0]
  const more = run.routes.length + (run.more_routes ?? 0) - 1
  if (run.type) return run.step ? `${run.job}, ${run.step.replace('-', ' ')}` : run.job
  return `${route?.from ?? ''} → ${route?.to ?? ''}${more > 0 ? ` and ${more.toLocaleString('en')} more` : ''}`
}

/** How far a run is, from 0 to 100. */
export function percentOf(run: Run): number {
  const ended = run.items.done + run.items.skipped + run.items.failed
  const all = ended + run.items.waiting
  return Math.min(100, Math.floor((run.bytes.total > 0 ? run.bytes.transferred / run.bytes.total : all > 0 ? ended / all : 0) * 100))
}
