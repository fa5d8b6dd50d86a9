import { useQuery } from '@tanstack/react-query'
import { type ReactNode, useState } from 'react'
import { api, data, type Provider } from '../api/client'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { plain } from '../ui/format'

type Group = 'cloud' | 'objects' | 'server' | 'machine' | 'sealed'

const groups: { key: Group; title: string; help: string }[] = [
  { key: 'cloud', title: 'Cloud drives', help: 'You sign in at the provider and agree there.' },
  { key: 'objects', title: 'Object stores', help: 'Buckets, by an access key.' },
  { key: 'server', title: 'File servers', help: 'A server of your own or of a host, by a user and a password or key.' },
  { key: 'machine', title: 'This machine', help: 'A folder of the machine that the service runs on.' },
  { key: 'sealed', title: 'Encrypted', help: 'A folder of a linked account whose contents and names its provider cannot read.' },
]

const groupOf = (provider: Provider): Group => (provider.declared ? 'cloud' : provider.name === 's3' ? 'objects' : provider.name === 'folder' ? 'machine' : provider.name === 'sealed' ? 'sealed' : 'server')

const shapes: Record<Group, ReactNode> = {
  cloud: <path d="M13 30a7 7 0 0 1-.6-14A10 10 0 0 1 31.6 14 8 8 0 0 1 31 30Z" />,
  objects: (
    <>
      <ellipse cx="22" cy="9" rx="13" ry="4" />
      <path d="M9 9v22c0 2.2 5.8 4 13 4s13-1.8 13-4V9" />
    </>
  ),
  server: (
    <>
      <rect x="8" y="6" width="28" height="13" rx="2" />
      <rect x="8" y="22" width="28" height="13" rx="2" />
      <path d="M31 10.5v4M31 26.5v4" />
    </>
  ),
  machine: (
    <>
      <rect x="6" y="6" width="32" height="21" rx="2" />
      <path d="M16 34h12M22 27v7" />
    </>
  ),
  sealed: (
    <>
      <rect x="8" y="16" width="28" height="19" rx="2" />
      <path d="M14 16v-4a8 8 0 0 1 16 0v4" />
    </>
  ),
}

/** The sign of a provider: the shape of its group, with the first letters of its title. */
export function ProviderSign({ provider }: { provider: Provider }) {
  const group = groupOf(provider)
  const letters = provider.title.slice(0, 2)
  const top = { cloud: 'top-[14px]', objects: 'top-[15px]', server: 'top-[6px] pr-1.5', machine: 'top-[9px]', sealed: 'top-[20px]' }[group]
  return (
    <span className="relative h-10 w-11 shrink-0" aria-hidden="true">
      <svg viewBox="0 0 44 40" className="h-10 w-11">
        <g className="fill-none stroke-soft" strokeWidth="1.6" strokeLinejoin="round">
          {shapes[group]}
        </g>
      </svg>
      <span data-letters={letters} className={`absolute inset-x-0 text-center text-[10px] leading-none font-semibold text-plumage before:content-[attr(data-letters)] ${top}`} />
    </span>
  )
}

type Props = { providers: Provider[]; onChoose: (provider: string, options?: Record<string, string>) => void }

/** The first step: where the account is. Providers by group, with a search, and what announces itself nearby. */
export function ProviderCards({ providers, onChoose }: Props) {
  const [wanted, setWanted] = useState('')
  const matches = (provider: Provider) => `${provider.title} ${provider.name}`.toLowerCase().includes(wanted.trim().toLowerCase())
  const shown = groups.map((group) => ({ ...group, providers: providers.filter((one) => groupOf(one) === group.key && matches(one)) })).filter((group) => group.providers.length > 0)
  return (
    <div className="grid gap-5">
      <input
        type="search"
        aria-label="Find a provider"
        placeholder="Find a provider"
        value={wanted}
        onChange={(event) => setWanted(event.target.value)}
        className="h-8 w-72 max-w-full rounded-md border border-line bg-panel px-3 placeholder:text-soft"
      />
      {shown.length === 0 && <p className="text-soft">No provider matches “{wanted}”. A provider that is not listed can be added by a definition, on the page of the providers.</p>}
      {shown.map((group) => (
        <section key={group.key} aria-label={group.title}>
          <h2 className="font-semibold">{group.title}</h2>
          <p className="text-small text-soft">{group.help}</p>
          <ul className="mt-2 grid gap-2 sm:grid-cols-2 lg:grid-cols-3">
            {group.providers.map((provider) => (
              <li key={provider.name}>
                <button type="button" onClick={() => onChoose(provider.name)} className="flex w-full items-center gap-3 rounded-md border border-line p-2 text-left hover:border-plumage hover:bg-panel">
                  <ProviderSign provider={provider} />
                  {provider.title}
                </button>
              </li>
            ))}
          </ul>
        </section>
      ))}
      <Nearby onChosen={onChoose} />
    </div>
  )
}

/** Servers that announce themselves on the service's network. */
function Nearby({ onChosen }: { onChosen: (provider: string, options: Record<string, string>) => void }) {
  const [looking, setLooking] = useState(false)
  const found = useQuery({ queryKey: ['nearby'], queryFn: () => data(api.GET('/api/v1/discovered')), enabled: looking, staleTime: 30_000 })
  return (
    <section aria-label="Servers on the network" className="grid gap-1">
      <h2 className="font-semibold">Found nearby</h2>
      {!looking && (
        <div>
          <Button onClick={() => setLooking(true)}>Look for servers on the local network</Button>
        </div>
      )}
      {looking && found.isPending && <p className="text-soft">Looking for three seconds…</p>}
      {found.isError && <Failed error={found.error} />}
      {found.data?.length === 0 && <p className="text-soft">No server announced itself. You can link a server by its address.</p>}
      {found.data?.map((server) => (
        <button key={`${server.service} ${server.address} ${server.port} ${server.name}`} type="button" className="flex h-8 items-center gap-3 text-left hover:bg-panel" onClick={() => onChosen(server.provider, server.options)}>
          <span className="text-plumage">{plain(server.name)}</span>
          <span className="font-mono text-small text-soft">
            {server.provider} {server.address} port {server.port}
          </span>
        </button>
      ))}
    </section>
  )
}
