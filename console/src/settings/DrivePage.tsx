import { Link } from 'react-router'

/** The address of the tree as a network drive, and how systems open it. */
export function DrivePage() {
  const address = `${window.location.origin}/dav/`
  const local = window.location.protocol === 'http:'
  const ways: [string, string][] = [
    ['Linux', 'In a terminal: heron drive mount FOLDER, or heron drive install FOLDER to have it after each start. In the file manager: connect to the address with dav or davs in place of http or https.'],
    ['macOS', 'In the file manager: Go, Connect to Server, and the address.'],
    ['Windows', 'In the file manager: Map network drive, and the address. It has to begin with https.'],
  ]
  return (
    <>
      <h1 className="text-title font-semibold">Network drive</h1>
      <p className="max-w-3xl text-soft">
        Other programs open the whole tree at this address (WebDAV). Everybody sees what their grants show, and a locked file is locked there too.
      </p>
      <p className="mt-3">
        <code className="rounded-md border border-line bg-panel px-2 py-1 font-mono text-small">{address}</code>
      </p>
      <p className="mt-3 max-w-3xl">
        Sign in with any user name, and a token as the password.{' '}
        <Link to="/settings/tokens" className="text-plumage underline">
          Create a token
        </Link>{' '}
        with the scopes “Look and read files” and, to save files, “Change files”.
      </p>
      {local && <p className="mt-3 max-w-3xl text-ochre">This service has no TLS, so only programs on its own machine can use the drive.</p>}
      <dl className="mt-4 grid max-w-3xl grid-cols-[max-content_minmax(0,1fr)] gap-x-6 gap-y-2">
        {ways.map(([system, text]) => (
          <div key={system} className="contents">
            <dt className="text-soft">{system}</dt>
            <dd>{text}</dd>
          </div>
        ))}
      </dl>
    </>
  )
}
