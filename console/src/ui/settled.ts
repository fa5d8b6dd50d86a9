import { useEffect, useState } from 'react'

/** A value once it has rested for a moment, so that not every key asks the service. */
export function useSettled(value: string): string {
  const [settled, setSettled] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), 400)
    return () => clearTimeout(timer)
  }, [value])
  return settled
}
