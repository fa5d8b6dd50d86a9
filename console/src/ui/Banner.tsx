import type { ReactNode } from 'react'
import { Failure } from '../api/client'

/** What happened, why as far as known, what to do, and the cause's code. */
export function Failed({ error, children }: { error: unknown; children?: ReactNode }) {
  const problem = error instanceof Failure ? error.problem : undefined
  return (
    <div role="alert" className="border-l-2 border-brick py-1 pl-4">
      <p className="text-brick">{problem?.detail ?? String(error)}</p>
      {problem?.remedy && <p>{problem.remedy}</p>}
      {problem?.cause && <p className="font-mono text-small text-soft">{problem.cause}</p>}
      {children && <div className="mt-2">{children}</div>}
    </div>
  )
}

/** One sentence of what this place is for, and one action. */
export function Empty({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <div className="py-12 text-soft">
      <p>{children}</p>
      {action && <div className="mt-3">{action}</div>}
    </div>
  )
}
