import { ChevronLeft, ChevronRight } from 'lucide-react'
import { lazy, Suspense, useEffect, useState } from 'react'
import { contentUrl, type Entry, type Failure, failureOf } from '../api/client'
import { download } from '../transfers/download'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { bytes, plain, when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { lookKind } from './look'

const Pdf = lazy(() => import('./Pdf'))

type Props = { entry: Entry; onClose: () => void; onStep: (by: number) => void }

/** A look at a file, by ranges, without fetching it. */
export function LookDialog({ entry, onClose, onStep }: Props) {
  useEffect(() => {
    const step = (event: KeyboardEvent) => {
      const inMedia = event.target instanceof HTMLElement && event.target.closest('video, audio, input')
      if (inMedia || (event.key !== 'ArrowLeft' && event.key !== 'ArrowRight')) return
      event.preventDefault()
      onStep(event.key === 'ArrowLeft' ? -1 : 1)
    }
    window.addEventListener('keydown', step)
    return () => window.removeEventListener('keydown', step)
  }, [onStep])
  return (
    <Dialog wide open onClose={onClose} title={plain(entry.name)} description={`${bytes(entry.size)}${entry.modified ? `, ${when(entry.modified)}` : ''}`}>
      <div className="flex min-h-0 flex-1 items-center justify-center overflow-auto border-y border-line bg-ground">
        <Content key={entry.address + (entry.revision ?? '')} entry={entry} />
      </div>
      <div className="mt-4 flex flex-wrap gap-2">
        <Button onClick={() => onStep(-1)}>
          <ChevronLeft className="size-4" aria-hidden="true" />
          File before
        </Button>
        <Button onClick={() => onStep(1)}>
          Next file
          <ChevronRight className="size-4" aria-hidden="true" />
        </Button>
        <span className="flex-1" />
        <Button onClick={() => download([entry])}>Download</Button>
        <Button look="first" onClick={onClose}>
          Close
        </Button>
      </div>
    </Dialog>
  )
}

function Content({ entry }: { entry: Entry }) {
  const [failed, setFailed] = useState(false)
  const address = contentUrl(entry.address)
  const onError = () => setFailed(true)
  if (failed) return <p className="p-6 text-soft">The browser cannot show this file. Download it to open it with a program.</p>
  switch (lookKind(entry.name)) {
    case 'picture':
      return <img src={address} alt={plain(entry.name)} onError={onError} className="max-h-full max-w-full object-contain" />
    case 'sound':
      return <audio src={address} controls onError={onError} aria-label={plain(entry.name)} />
    case 'film':
      return <video src={address} controls onError={onError} aria-label={plain(entry.name)} className="max-h-full max-w-full" />
    case 'pdf':
      return (
        <Suspense fallback={<p className="text-soft">Opening…</p>}>
          <Pdf address={address} onError={onError} />
        </Suspense>
      )
    case 'text':
      return <Text entry={entry} />
  }
  return <p className="p-6 text-soft">There is no preview for this kind of file. Download it to open it with a program.</p>
}

const chunk = 256 * 1024

/** The beginning of a text, and more of it as it is asked for. */
function Text({ entry }: { entry: Entry }) {
  const [text, setText] = useState('')
  const [wanted, setWanted] = useState(chunk)
  const [error, setError] = useState<Failure>()
  const [read, setRead] = useState(0)
  useEffect(() => {
    const stop = new AbortController()
    if (entry.size === 0) return
    fetch(contentUrl(entry.address), { headers: { Range: `bytes=0-${wanted - 1}` }, signal: stop.signal })
      .then(async (response) => {
        if (!response.ok) return setError(await failureOf(response))
        const data = await response.arrayBuffer()
        setText(new TextDecoder().decode(data))
        setRead(data.byteLength)
      })
      .catch(() => {}) // closed meanwhile
    return () => stop.abort()
  }, [entry.address, entry.size, wanted])
  if (error) return <Failed error={error} />
  const more = entry.size > read && read >= wanted
  return (
    <div className="h-full w-full overflow-auto p-3" tabIndex={0} role="document" aria-label={plain(entry.name)}>
      {entry.size === 0 && <p className="text-soft">The file is empty.</p>}
      <pre className="font-mono text-small break-words whitespace-pre-wrap">{text}</pre>
      {more && (
        <p className="mt-2 text-soft">
          The first {bytes(read)} of {bytes(entry.size)}.{' '}
          <Button look="quiet" onClick={() => setWanted(wanted * 4)}>
            Show more
          </Button>
        </p>
      )}
    </div>
  )
}
