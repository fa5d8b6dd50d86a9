import { ChevronDown, ChevronUp } from 'lucide-react'
import { useState } from 'react'
import type { Transfer } from '../api/client'
import { useLive } from '../live/live'
import { Button } from '../ui/Button'
import { bytes, plain, some } from '../ui/format'
import { State } from '../ui/State'
import { type Upload, useUploads } from './uploads'

/** What is on its way between this computer and the tree, at the foot of every page. */
export function Transfers() {
  const { uploads, tidy } = useUploads()
  const { progress } = useLive()
  const [open, setOpen] = useState(true)
  const downloads = progress.transfers.filter((transfer) => !transfer.upload && transfer.id.startsWith('download-'))
  if (uploads.length + downloads.length === 0) return null
  const moving = uploads.filter((upload) => upload.state === 'sending' || upload.state === 'waiting')
  const unwell = uploads.filter((upload) => upload.state === 'failed' || upload.state === 'conflict')
  const sent = uploads.filter((upload) => upload.state === 'done').length
  const parts = [
    moving.length > 0 && `${some(moving.length, 'file')} to send`,
    downloads.length > 0 && `${some(downloads.length, 'download')} under way`,
    sent > 0 && `${some(sent, 'file')} sent`,
    unwell.length > 0 && `${some(unwell.length, 'file')} not sent`,
  ].filter(Boolean)
  // Those that want something first, then what moves; of what is done, the count says enough.
  const rows = [...unwell, ...moving].slice(0, 50)
  const Chevron = open ? ChevronDown : ChevronUp
  return (
    <section aria-label="Transfers" className="border-t border-line bg-panel">
      <div className="mx-auto w-full max-w-[1400px] px-4 py-1">
        <div className="flex items-center gap-3">
          <button type="button" aria-expanded={open} onClick={() => setOpen(!open)} className="flex h-8 items-center gap-2">
            <Chevron className="size-4 text-soft" aria-hidden="true" />
            <span role="status">{parts.join(', ')}</span>
          </button>
          <span className="flex-1" />
          {moving.length === 0 && uploads.length > 0 && (
            <Button look="quiet" onClick={tidy}>
              Clear the list
            </Button>
          )}
        </div>
        {open && (rows.length > 0 || downloads.length > 0) && (
          <ul className="max-h-40 overflow-auto pb-1" tabIndex={0} aria-label="Files on their way">
            {rows.map((upload) => (
              <UploadRow key={upload.id} upload={upload} />
            ))}
            {downloads.map((transfer) => (
              <DownloadRow key={transfer.id} transfer={transfer} />
            ))}
          </ul>
        )}
      </div>
    </section>
  )
}

const row = 'grid min-h-8 grid-cols-[minmax(0,1fr)_170px_auto] items-center gap-x-4 border-t border-line'

function UploadRow({ upload }: { upload: Upload }) {
  const { again, stop } = useUploads()
  const name = upload.names.join('/')
  return (
    <li className={row}>
      <span className="min-w-0">
        <span className="block truncate font-mono text-small" title={name}>
          {plain(name)} <span className="text-soft">→ {plain(upload.folder)}</span>
        </span>
        {upload.problem && (
          <span className="block text-small">
            <span className={upload.state === 'conflict' ? 'text-ochre' : 'text-brick'}>{upload.problem.detail}</span> {upload.state === 'failed' && upload.problem.remedy}
          </span>
        )}
      </span>
      <span className="text-right text-small">
        {upload.state === 'sending' ? <Part moved={upload.sent} total={upload.file.size} /> : <State state={upload.state === 'conflict' ? 'held' : upload.state} />}
      </span>
      <span className="flex gap-2">
        {upload.state === 'conflict' && (
          <>
            <Button look="quiet" onClick={() => again(upload, true)}>
              Replace
            </Button>
            <Button look="quiet" onClick={() => stop(upload)}>
              Leave
            </Button>
          </>
        )}
        {upload.state === 'failed' && (
          <Button look="quiet" onClick={() => again(upload, upload.replace ?? false)}>
            Send again
          </Button>
        )}
        {(upload.state === 'sending' || upload.state === 'waiting') && (
          <Button look="quiet" onClick={() => stop(upload)}>
            Stop
          </Button>
        )}
      </span>
    </li>
  )
}

function DownloadRow({ transfer }: { transfer: Transfer }) {
  return (
    <li className={row}>
      <span className="truncate font-mono text-small">{plain(transfer.address)}</span>
      <span className="text-right text-small">
        <Part moved={transfer.transferred} total={transfer.total} />
      </span>
      <span className="text-small text-soft">to this computer</span>
    </li>
  )
}

function Part({ moved, total }: { moved: number; total: number }) {
  if (total < 0) return <>{bytes(moved)} so far</>
  const percent = total > 0 ? Math.min(100, Math.floor((moved / total) * 100)) : 100
  return (
    <>
      {percent === 100 ? `${bytes(total)}, being verified` : `${percent} % of ${bytes(total)}`}
      <span role="progressbar" aria-label="Part moved" aria-valuenow={percent} aria-valuemin={0} aria-valuemax={100} className="block h-1 bg-line">
        <span className="block h-full bg-plumage" style={{ width: `${percent}%` }} />
      </span>
    </>
  )
}
