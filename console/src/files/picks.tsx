import { createContext, type ReactNode, useContext, useMemo, useState } from 'react'
import type { Entry } from '../api/client'

type Picks = {
  picked: ReadonlyMap<string, Entry>
  pick: (entries: Entry[], on: boolean) => void
  only: (entries: Entry[]) => void
  clear: () => void
}

const PicksContext = createContext<Picks>({ picked: new Map(), pick: () => {}, only: () => {}, clear: () => {} })

/** What has been chosen, in whichever folders. */
export const usePicks = () => useContext(PicksContext)

export function PicksProvider({ children }: { children: ReactNode }) {
  const [picked, setPicked] = useState<ReadonlyMap<string, Entry>>(new Map())
  const picks = useMemo<Picks>(
    () => ({
      picked,
      pick: (entries, on) =>
        setPicked((before) => {
          const next = new Map(before)
          for (const entry of entries) on ? next.set(entry.address, entry) : next.delete(entry.address)
          return next
        }),
      only: (entries) => setPicked(new Map(entries.map((entry) => [entry.address, entry]))),
      clear: () => setPicked(new Map()),
    }),
    [picked],
  )
  return <PicksContext.Provider value={picks}>{children}</PicksContext.Provider>
}
