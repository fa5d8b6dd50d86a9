import { useState } from 'react'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { plain } from '../ui/format'
import { FolderTree } from './FolderTree'
import { NewFolderForm } from './dialogs'
import { recentTargets } from './recent'

type Props = { title: string; value: string; onChoose: (address: string) => void; onClose: () => void }

/** The tree in a dialog, to choose a folder: with recent targets, and new folders. */
export default function PickerDialog({ title, value, onChoose, onClose }: Props) {
  const [at, setAt] = useState(value.startsWith('/') ? value.replace(/\/$/, '') || '/' : '/')
  const [making, setMaking] = useState(false)
  const recent = recentTargets()
  return (
    <Dialog open onClose={onClose} title={title} description="Enter selects a folder of the tree, the arrow keys open and close it. Typing finds a name.">
      {recent.length > 0 && (
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
        <FolderTree label="Folders" current={at} onChoose={setAt} />
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
