import { Link } from 'react-router'
import { contentUrl, type Entry } from '../api/client'
import { Button } from '../ui/Button'
import { bytes, count, plain, when } from '../ui/format'
import { lookKind } from './look'
import { Notes } from './Notes'
import { Picture } from './Picture'

/** What is known of the one entry that is chosen. */
export function Details({ entry, onLook }: { entry: Entry; onLook: () => void }) {
  const rows: [string, string][] = [['Kind', entry.kind]]
  if (entry.document) rows[0]![1] = `document (${entry.document})`
  if (entry.kind !== 'folder' && entry.kind !== 'document') rows.push(['Size', `${bytes(entry.size)} (${count(entry.size)} bytes)`])
  if (entry.modified) rows.push(['Modified', when(entry.modified)])
  return (
    <aside aria-label="Details" className="hidden w-72 shrink-0 overflow-auto border-l border-line pl-4 lg:block">
      <h2 className="text-large font-semibold break-words">{plain(entry.name)}</h2>
      <Picture entry={entry} size="large" className="mt-2 max-h-64 w-full rounded-md border border-line object-contain" />
      {entry.kind === 'file' && lookKind(entry.name) && (
        <Button className="mt-2" onClick={onLook}>
          Look at it
        </Button>
      )}
      {entry.kind !== 'document' && (
        <p className="mt-2">
          <Link to={`/history?${new URLSearchParams({ of: entry.address })}`} className="text-plumage hover:underline">
            {entry.kind === 'folder' ? 'History of this folder' : 'Earlier versions'}
          </Link>
        </p>
      )}
      {entry.kind === 'document' && (
        <p className="mt-2 text-soft">
          A document inside the service, read as an export:{' '}
          {entry.exports?.map((format, i) => (
            <span key={format}>
              {i > 0 && ', '}
              <a href={contentUrl(entry.address, { as: format, download: '1' })} download className="text-plumage hover:underline">
                {format}
              </a>
              {i === 0 && ' (the default)'}
            </span>
          ))}
        </p>
      )}
      <dl className="mt-3 grid gap-2">
        {rows.map(([term, text]) => (
          <div key={term}>
            <dt className="text-small text-soft">{term}</dt>
            <dd>{text}</dd>
          </div>
        ))}
      </dl>
      {entry.address.indexOf('/', 1) > 0 && entry.kind !== 'other' && (
        <div className="mt-3 border-y border-line py-3">
          <Notes entry={entry} />
        </div>
      )}
      <dl className="mt-3 grid gap-2 pb-4">
        <Code term="Address" text={entry.address} />
        {entry.revision && <Code term="Revision" text={entry.revision} />}
        {entry.hashes?.map((hash) => <Code key={hash} term="Hash" text={hash} />)}
      </dl>
    </aside>
  )
}

function Code({ term, text }: { term: string; text: string }) {
  return (
    <div>
      <dt className="text-small text-soft">{term}</dt>
      <dd className="font-mono text-small break-all">{plain(text)}</dd>
    </div>
  )
}
