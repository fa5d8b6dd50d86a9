import { useState } from 'react'
import { Link } from 'react-router'
import { contentUrl } from '../api/client'
import type { components } from '../api/schema'
import { Address } from '../ui/Address'
import { Button } from '../ui/Button'
import { bytes, when } from '../ui/format'
import { serviceNow } from '../api/clock'
import { RestoreDialog } from './RestoreDialog'

type Version = components['schemas']['Version']

/** A moment at which a file was what a version says. */
const moment = (version: Version) => new Date(new Date(version.at).getTime() - 1).toISOString()

/** The changes of a file, the newest first, each with what was there before it. */
export function Versions({ address, versions }: { address: string; versions: Version[] }) {
  const [restoring, setRestoring] = useState<string>()
  if (versions.length === 0) return <p>No earlier version of this file is kept. History begins when a run overwrites or deletes it.</p>
  return (
    <section aria-label="Versions">
      <table className="w-full">
        <thead>
          <tr className="text-left text-small text-soft">
            <th className="py-1 font-normal">Changed</th>
            <th className="py-1 pl-4 font-normal">How</th>
            <th className="py-1 pl-4 text-right font-normal">Size before</th>
            <th className="hidden py-1 pl-4 font-normal md:table-cell">Hash</th>
            <th className="py-1 pl-4 font-normal">
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {versions.map((version) => (
            <tr key={version.at} className="border-t border-line align-baseline">
              <td className="py-1.5 whitespace-nowrap">
                {version.run ? (
                  <Link to={`/runs/${version.run}`} className="text-plumage hover:underline">
                    {when(version.at)}
                  </Link>
                ) : (
                  when(version.at)
                )}
              </td>
              <td className="py-1.5 pl-4">
                {version.change}
                {version.to && (
                  <>
                    {' to '}
                    <Address address={version.to} />
                  </>
                )}
                {version.change === 'superseded' && version.kept && (
                  <>
                    {', kept at '}
                    <Address address={version.kept} />
                  </>
                )}
                {version.version && <span className="text-soft"> · kept by the account itself</span>}
                {version.change === 'thinned' && <span className="text-soft">, and the version is not kept any more</span>}
                {version.locked && new Date(version.locked).getTime() > serviceNow() && <span className="text-dusk"> · locked until {when(version.locked)}{version.enforced ? ', by the store too' : ''}</span>}
              </td>
              <td className="py-1.5 pl-4 text-right whitespace-nowrap">{version.kept ? bytes(version.size) : ''}</td>
              <td className="hidden max-w-60 truncate py-1.5 pl-4 font-mono text-small text-soft md:table-cell" title={version.hash}>
                {version.hash}
              </td>
              <td className="py-1 pl-4 text-right whitespace-nowrap">
                {(version.kept || version.to) && version.change !== 'superseded' && (
                  <>
                    <a href={contentUrl(address, { at: moment(version), download: '1' })} download className="mr-2 text-plumage hover:underline">
                      Download
                    </a>
                    <Button look="quiet" onClick={() => setRestoring(moment(version))}>
                      Restore…
                    </Button>
                  </>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {restoring && <RestoreDialog address={address} file at={restoring} onClose={() => setRestoring(undefined)} />}
    </section>
  )
}
