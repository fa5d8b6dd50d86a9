import { createContext, type ReactNode, useCallback, useContext, useEffect, useState } from 'react'
import { Failed } from './Banner'
import { Button } from './Button'

type Offer = { sentence: string; undo: () => Promise<unknown>; until: number }
type Undo = (sentence: string, undo: () => Promise<unknown>) => void

const UndoContext = createContext<Undo>(() => {})
const seconds = 10

/** Says what was done, and offers to take it back for ten seconds. */
export const useUndo = () => useContext(UndoContext)

export function UndoProvider({ children }: { children: ReactNode }) {
  const [offer, setOffer] = useState<Offer>()
  const [left, setLeft] = useState(0)
  const [error, setError] = useState<unknown>()
  const [undoing, setUndoing] = useState(false)
  const propose = useCallback<Undo>((sentence, undo) => {
    setError(undefined)
    setLeft(seconds)
    setOffer({ sentence, undo, until: Date.now() + seconds * 1000 })
  }, [])
  useEffect(() => {
    if (!offer || undoing) return
    const timer = setInterval(() => {
      const rest = Math.ceil((offer.until - Date.now()) / 1000)
      setLeft(rest)
      if (rest <= 0) setOffer(undefined)
    }, 250)
    return () => clearInterval(timer)
  }, [offer, undoing])
  const take = useCallback(() => {
    if (!offer || undoing) return
    setUndoing(true)
    offer
      .undo()
      .catch(setError)
      .finally(() => {
        setUndoing(false)
        setOffer(undefined)
      })
  }, [offer, undoing])
  useEffect(() => {
    if (!offer) return
    const onKey = (event: KeyboardEvent) => {
      const typing = event.target instanceof HTMLElement && event.target.closest('input, textarea, select')
      if (typing || event.key !== 'z' || !(event.ctrlKey || event.metaKey) || event.shiftKey) return
      event.preventDefault()
      take()
    }
    window.addEventListener('keydown', onKey)
    return () => window.removeEventListener('keydown', onKey)
  }, [offer, take])
  return (
    <UndoContext.Provider value={propose}>
      {children}
      <div role="status" aria-label="Done" className="fixed bottom-4 left-1/2 z-40 max-w-[90vw] -translate-x-1/2">
        {offer && (
          <div className="flex flex-wrap items-center gap-4 rounded-md border border-line bg-panel px-4 py-2 shadow-lg">
            <span className="min-w-0 wrap-anywhere">{offer.sentence}</span>
            <Button disabled={undoing} onClick={take} title="Ctrl Z">
              Undo
            </Button>
            <span aria-hidden="true" className="w-8 text-right text-small text-soft">
              {left} s
            </span>
          </div>
        )}
        {error !== undefined && (
          <div className="rounded-md border border-line bg-panel px-4 py-2 shadow-lg">
            <Failed error={error}>
              <Button onClick={() => setError(undefined)}>Close</Button>
            </Failed>
          </div>
        )}
      </div>
    </UndoContext.Provider>
  )
}
