import { useQuery } from '@tanstack/react-query'
import { useEffect, useId, useRef, useState } from 'react'
import { useLocation, useNavigate, useSearchParams } from 'react-router'
import { api, data } from '../api/client'
import { useJobs } from '../jobs/queries'
import { addressOf, filesLink } from '../files/address'
import { plain, when } from '../ui/format'
import { offered, places } from './places'
import { useMayChange } from '../ui/may'

type Offer = { key: string; text: string; note: string; to: string; keys?: string; completes?: string }

/** Address bar and command palette in one: "/" begins an address, anything else finds. */
export function CommandField() {
  const navigate = useNavigate()
  const location = useLocation()
  const [search] = useSearchParams()
  const here = addressOf(location.pathname, search) ?? ''
  const [text, setText] = useState(here)
  const [open, setOpen] = useState(false)
  const [chosen, setChosen] = useState(-1)
  const field = useRef<HTMLInputElement>(null)
  const list = useId()
  useEffect(() => setText(here), [here])
  useEffect(() => {
    const focus = (event: KeyboardEvent) => {
      const typing = event.target instanceof HTMLElement && event.target.closest('input, textarea, [role=dialog]')
      if (event.key === '/' && !typing && !event.ctrlKey && !event.metaKey) {
        event.preventDefault()
        field.current?.focus()
        field.current?.select()
      }
    }
    window.addEventListener('keydown', focus)
    return () => window.removeEventListener('keydown', focus)
  }, [])

  const offers = useOffers(text, open)
  const go = (offer: Offer | undefined) => {
    setOpen(false)
    setChosen(-1)
    field.current?.blur()
    void navigate(offer ? offer.to : text.startsWith('/') ? filesLink(text) : '/files')
  }
  const onKeyDown = (event: React.KeyboardEvent) => {
    const offer = offers[chosen]
    if (event.key === 'ArrowDown') setChosen((n) => Math.min(n + 1, offers.length - 1))
    else if (event.key === 'ArrowUp') setChosen((n) => Math.max(n - 1, -1))
    else if (event.key === 'Tab' && !event.shiftKey && open && (offer ?? offers[0])?.completes) setText((offer ?? offers[0])!.completes!)
    else if (event.key === 'Enter') go(offer ?? (text.startsWith('/') ? undefined : offers[0]))
    else if (event.key === 'Escape') {
      setOpen(false)
      setText(here)
    } else return
    event.preventDefault()
  }
  return (
    <div className="relative min-w-56 flex-1">
      <input
        ref={field}
        value={text}
        spellCheck={false}
        autoComplete="off"
        placeholder="/account/folder, or find (press /)"
        aria-label="Address, or what to find"
        role="combobox"
        aria-expanded={open && offers.length > 0}
        aria-controls={list}
        aria-activedescendant={chosen >= 0 ? `${list}-${chosen}` : undefined}
        className="h-8 w-full rounded-md border border-line bg-panel px-3 font-mono text-small placeholder:text-soft"
        onChange={(event) => {
          setText(event.target.value.replace(/^\/+/, '/')) // the key that leads here has typed one
          setChosen(-1)
          setOpen(true)
        }}
        onFocus={() => setOpen(true)}
        onBlur={() => setOpen(false)}
        onKeyDown={onKeyDown}
      />
      {open && offers.length > 0 && (
        <ul id={list} role="listbox" aria-label="Found" className="absolute top-9 right-0 left-0 z-20 max-h-80 overflow-auto rounded-md border border-line bg-panel p-1 shadow-lg">
          {offers.map((offer, i) => (
            <li
              key={offer.key}
              id={`${list}-${i}`}
              role="option"
              aria-selected={i === chosen}
              className={`flex cursor-pointer items-baseline justify-between gap-4 rounded-md px-2 py-1 ${i === chosen ? 'bg-ground' : ''}`}
              onMouseDown={(event) => {
                event.preventDefault()
                go(offer)
              }}
            >
              <span className="font-mono text-small break-all">{plain(offer.text)}</span>
              <span className="text-small whitespace-nowrap text-soft">
                {offer.note}
                {offer.keys && <kbd className="ml-3 rounded-md border border-line px-1 font-mono">{offer.keys}</kbd>}
              </span>
            </li>
          ))}
        </ul>
      )}
    </div>
  )
}

function useOffers(text: string, open: boolean): Offer[] {
  const may = useMayChange()
  const isAddress = text.startsWith('/')
  const parent = isAddress ? text.slice(0, text.lastIndexOf('/') + 1) : '/'
  const folder = useQuery({
    queryKey: ['completion', parent],
    queryFn: () => data(api.GET('/api/v1/tree', { params: { query: { address: parent || '/', limit: 200 } } })),
    enabled: open,
    retry: false,
  })
  const wanted = text.trim().toLowerCase()
  const jobs = useJobs()
  const runs = useQuery({
    queryKey: ['runs', 'found', wanted],
    queryFn: () => data(api.GET('/api/v1/runs', { params: { query: { limit: 8, text: wanted || undefined } } })),
    enabled: open && !isAddress,
    placeholderData: (before) => before,
  })
  if (isAddress) {
    return (folder.data?.entries ?? [])
      .filter((entry) => entry.address.startsWith(text) && entry.kind === 'folder')
      .slice(0, 12)
      .map((entry) => ({ key: entry.address, text: entry.address, note: 'folder', to: filesLink(entry.address), completes: `${entry.address}/` }))
  }
  const accounts = (folder.data?.entries ?? []).map((entry) => ({ key: entry.address, text: entry.address, note: 'account', to: filesLink(entry.address) }))
  const found = (runs.data?.runs ?? []).map((run) => ({
    key: run.id,
    text: `${run.id} ${run.routes.map((route) => `${route.from} → ${route.to}`).join(', ')}`,
    note: `run, ${run.state}, ${when(run.created)}`,
    to: `/runs/${run.id}`,
  }))
  const named = (jobs.data?.jobs ?? []).map((job) => ({ key: `job ${job.name}`, text: job.name, note: `job, ${job.type}`, to: `/jobs/${job.name}` }))
  const matching = [...places, ...offered(may), ...named, ...accounts, ...found].filter((offer) => `${offer.text} ${offer.note}`.toLowerCase().includes(wanted)).slice(0, 11)
  if (wanted === '') return matching
  return [...matching, { key: 'search for', text: text.trim(), note: 'search names and contents', to: `/search?${new URLSearchParams({ q: text.trim() })}` }]
}
