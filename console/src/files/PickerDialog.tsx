import { useState } from 'react'
import { useSettled } from '../ui/settled'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { plain } from '../ui/format'
import { FolderTree } from './FolderTree'
import { NewFolderForm } from './dialogs'
import { recentTargets } from './recent'
import { useFolderSearch } from './search'

type Props = { title: string; value: string; onChoose: (address: string) => void; onClose: () => void }

/** The tree in a dialog, to choose a folder: with recent targets, and new folders. */
export default function PickerDialog({ title, value, onChoose, onClose }: Props) {
  const [at, setAt] = useState(value.startsWith('/') ? value.replace(/\/$/, '') || '/' : '/')
  const [making, setMaking] = useState(false)
  const [wanted, setWanted] = useState('')
  const [below, setBelow] = useState(at)
  const recent = recentTargets()
  return (
    <Dialog open onClose={onClose} title={title} description="Enter selects a folder of the tree, the arrow keys open and close it. Typing finds a name.">
      <input
        type="search"
        aria-label="Find a folder by name"
        placeholder={below === '/' ? 'Find a folder by name' : `Find a folder by name, below ${plain(below)}`}
        value={wanted}
        onChange={(event) => {
          setBelow(at)
          setWanted(event.target.value)
        }}
        className="mb-2 h-8 w-full rounded-md border border-line bg-ground px-3 placeholder:text-soft"
      />
      {recent.length > 0 && wanted === '' && (
        <ul aria-label="Recent targets" className="mb-2 flex flex-wrap gap-2">
          {recent.map((address) => (
            <li key={address}>
              <button type="button" onClick={() => setAt(address)} className="rounded-md border border-line px-2 py-0.5 font-mono text-small hover:border-plumage">
                {plain(address)}
              </button>
            </li>
          ))}
        </ul>
      )}
      <div className="flex h-72 flex-col rounded-md border border-line bg-ground p-1">
        {wanted === '' ? <FolderTree label="Folders" current={at} onChoose={setAt} /> : <Found text={wanted} below={below} at={at} onChoose={setAt} />}
      </div>
      <p className="mt-3 font-mono text-small break-all" aria-live="polite">
        {plain(at)}
      </p>
      {making ? (
        <NewFolderForm
          address={at}
          onClose={() => setMaking(false)}
          onMade={(name) => {
            setMaking(false)
            setAt(`${at}/${name}`)
          }}
        />
      ) : (
        <div className="mt-3 flex flex-wrap justify-end gap-2">
          <Button disabled={at === '/'} onClick={() => setMaking(true)}>
            New folder…
          </Button>
          <span className="flex-1" />
          <Button onClick={onClose}>Close</Button>
          <Button
            look="first"
            disabled={at === '/'}
            onClick={() => {
              onChoose(at)
              onClose()
            }}
          >
            Choose this folder
          </Button>
        </div>
      )}
    </Dialog>
  )
}

function Found({ text, below, at, onChoose }: { text: string; below: string; at: string; onChoose: (address: string) => void }) {
  const search = useFolderSearch(useSettled(text), below)
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <ul aria-label="Folders found" className="min-h-0 flex-1 overflow-auto">
        {search.found.map((address) => (
          <li key={address}>
            <button
              type="button"
              aria-pressed={address === at}
              onClick={() => onChoose(address)}
              className={`w-full rounded-md px-2 py-1 text-left font-mono text-small wrap-anywhere hover:bg-panel ${address === at ? 'bg-panel shadow-[inset_2px_0_0_var(--plumage)]' : ''}`}
            >
              {plain(address)}
            </button>
          </li>
        ))}
      </ul>
      <p role="status" className="px-2 py-1 text-small text-soft">
        {search.found.length === 0 && search.ended && 'No folder found. '}
        {below === '/'
          ? 'Folders that were opened are searched. To search further, clear the text, choose an account or a folder, and type again.'
          : search.ended
            ? `${search.listed} folders below ${plain(below)} were searched${search.bounded ? '; there are more: choose a folder further down to search there' : ''}.`
            : `Searching below ${plain(below)}: ${search.listed} folders so far…`}
      </p>
    </div>
  )
}
