import { createContext, type ReactNode, useContext, useMemo, useState } from 'react'
import type { Entry } from '../api/client'

/** What is taken along, by keys or by the pointer, and what becomes of it. */
export type Carried = { entries: Entry[]; move: boolean }

type Clipboard = { carried?: Carried; carry: (carried?: Carried) => void; dragged?: Entry[]; drag: (entries?: Entry[]) => void }

const ClipboardContext = createContext<Clipboard>({ carry: () => {}, drag: () => {} })

/** Entries that were cut or copied, and those under the pointer; both last while one goes to other folders. */
export const useClipboard = () => useContext(ClipboardContext)

export function ClipboardProvider({ children }: { children: ReactNode }) {
  const [carried, carry] = useState<Carried>()
  const [dragged, drag] = useState<Entry[]>()
  const value = useMemo(() => ({ carried, carry, dragged, drag }), [carried, dragged])
  return <ClipboardContext.Provider value={value}>{children}</ClipboardContext.Provider>
}

/** The type of a drag of entries of ours. */
export const entriesType = 'application/x-deft-heron-entries'

/** What a folder does with entries that are dropped on it: copies them, or with Shift moves them. */
export function useDrop(address: string, onDrop: (carried: Carried, into: string) => void) {
  const { dragged, drag } = useClipboard()
  const [over, setOver] = useState(false)
  const takes = (event: React.DragEvent) => event.dataTransfer.types.includes(entriesType) && address !== '/'
  return {
    over,
    props: {
      onDragOver: (event: React.DragEvent) => {
        if (!takes(event)) return
        event.preventDefault()
        event.stopPropagation()
        event.dataTransfer.dropEffect = event.shiftKey ? 'move' : 'copy'
        setOver(true)
      },
      onDragLeave: () => setOver(false),
      onDrop: (event: React.DragEvent) => {
        setOver(false)
        if (!takes(event)) return
        event.preventDefault()
        event.stopPropagation()
        if (dragged?.length) onDrop({ entries: dragged, move: event.shiftKey }, address)
        drag(undefined)
      },
    },
  }
}
