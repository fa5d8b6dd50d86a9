import { useEffect, useRef, useState } from 'react'
import { useMutation } from '@tanstack/react-query'
import { api, data, type Entry } from '../api/client'
import { Failed } from '../ui/Banner'
import { plain } from '../ui/format'
import { useUndo } from '../ui/undo'
import { parent } from './address'
import { useFreshen } from './dialogs'
import { usePicks } from './picks'

/** The name of an entry as a field, at its place in the listing: Enter renames, Escape leaves it. */
export function Rename({ entry, onDone }: { entry: Entry; onDone: () => void }) {
  const [name, setName] = useState(entry.name)
  const field = useRef<HTMLInputElement>(null)
  const ready = useRef(false)
  const freshen = useFreshen()
  const picks = usePicks()
  const offer = useUndo()
  const rename = useMutation({
    mutationFn: (name: string) => data(api.POST('/api/v1/moves', { body: { from: [entry.address], to: parent(entry.address), name } })),
    onSuccess: (moved, name) => {
      freshen()
      picks.clear()
      onDone()
      const now = moved.moved[0]?.to
      if (!now || moved.run) return
      offer(`Renamed ${plain(entry.name)} to ${plain(name)}.`, () =>
        data(api.POST('/api/v1/moves', { body: { from: [now], to: parent(entry.address), name: entry.name } })).finally(freshen),
      )
    },
    onError: () => field.current?.focus(),
  })
  // A menu that it was chosen in takes the focus back when it closes.
  useEffect(() => {
    const timer = setTimeout(() => {
      field.current?.focus()
      ready.current = true
    }, 50)
    return () => clearTimeout(timer)
  }, [])
  const onKeyDown = (event: React.KeyboardEvent) => {
    event.stopPropagation()
    if (event.key === 'Escape') onDone()
    if (event.key !== 'Enter' || rename.isPending) return
    if (name === '' || name === entry.name) onDone()
    else rename.mutate(name)
  }
  return (
    <span className="relative min-w-0 flex-1">
      <input
        ref={field}
        aria-label="New name"
        aria-invalid={rename.isError}
        value={name}
        spellCheck={false}
        autoFocus
        // The name without its extension is what changes most often.
        onFocus={(event) => event.target.setSelectionRange(0, entry.name.lastIndexOf('.') > 0 && entry.kind !== 'folder' ? entry.name.lastIndexOf('.') : entry.name.length)}
        onChange={(event) => setName(event.target.value)}
        onKeyDown={onKeyDown}
        onClick={(event) => event.stopPropagation()}
        onDoubleClick={(event) => event.stopPropagation()}
        onBlur={() => ready.current && !rename.isPending && !rename.isError && onDone()}
        className="h-6 w-full rounded-md border border-plumage bg-panel px-2"
      />
      {rename.isError && (
        <div className="absolute top-7 left-0 z-20 w-96 max-w-[80vw] rounded-md border border-line bg-panel p-2 shadow-lg">
          <Failed error={rename.error} />
        </div>
      )}
    </span>
  )
}
