import { createContext, type ReactNode, useContext } from 'react'

const MayChange = createContext(true)

/** Says whether who is signed in may change anything at all; a viewer may not. */
export function MayChangeProvider({ may, children }: { may: boolean; children: ReactNode }) {
  return <MayChange.Provider value={may}>{children}</MayChange.Provider>
}

/** Whether who is signed in may change anything at all. */
export const useMayChange = () => useContext(MayChange)

/** What only those who may change something see. */
export function Changing({ children }: { children: ReactNode }) {
  return useMayChange() ? children : null
}
