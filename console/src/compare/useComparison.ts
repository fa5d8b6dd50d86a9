import { useEffect, useRef, useState } from 'react'
import { type Compared, Failure, type Summary } from '../api/client'
import { follow } from '../ui/lines'

export type Comparison = { lines: Compared[]; summary?: Summary; error?: Error; going: boolean }

const nothing: Comparison = { lines: [], going: false }

/** The two sides: their addresses, and the times as of which they are looked at; none is now. */
export type Sides = { here: string; there: string; hereAt?: string; thereAt?: string }

/** A comparison as it comes in, line by line. */
export function useComparison() {
  const [comparison, setComparison] = useState<Comparison>(nothing)
  const stop = useRef<AbortController>(undefined)
  useEffect(() => () => stop.current?.abort(), [])
  const begin = ({ here, there, hereAt, thereAt }: Sides, read: boolean) => {
    stop.current?.abort()
    const mine = new AbortController()
    stop.current = mine
    setComparison({ lines: [], going: true })
    const lines: Compared[] = []
    let summary: Summary | undefined
    const show = (more: Partial<Comparison>) => mine.signal.aborted || setComparison({ lines: [...lines], summary, going: true, ...more })
    const timer = setInterval(() => show({}), 300)
    const take = (line: string) => {
      const one = JSON.parse(line) as Compared
      if (one.problem) throw new Failure(one.problem)
      if (one.summary) summary = one.summary
      else lines.push(one)
    }
    const asked = { here, there, read: String(read), ...(hereAt ? { here_at: hereAt } : {}), ...(thereAt ? { there_at: thereAt } : {}) }
    void follow(`/api/v1/comparison?${new URLSearchParams(asked)}`, mine.signal, take)
      .then(() => show({ going: false, error: summary ? undefined : new Error('The comparison broke off before its end; compare again.') }))
      .catch((error: Error) => show({ going: false, error }))
      .finally(() => clearInterval(timer))
  }
  const end = () => {
    stop.current?.abort()
    setComparison((now) => ({ ...now, going: false, error: now.summary ? undefined : new Error('It was stopped; what is shown is not all.') }))
  }
  return { comparison, begin, end }
}
