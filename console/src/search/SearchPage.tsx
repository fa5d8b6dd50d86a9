import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import { filesLink, parent } from '../files/address'
import { TargetField } from '../files/TargetField'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Field, SelectField } from '../ui/Field'
import { useMayChange } from '../ui/may'
import { bytes, count, plain, some, when } from '../ui/format'

type Hit = components['schemas']['SearchHit']

const types = [
  { value: '', title: 'any type' },
  { value: 'documents', title: 'documents' },
  { value: 'pictures', title: 'pictures' },
  { value: 'sound', title: 'sound' },
  { value: 'film', title: 'film' },
  { value: 'pdf', title: 'PDF files' },
]

const ages = [
  { value: '', title: 'at any time' },
  { value: '1d', title: 'within a day' },
  { value: '7d', title: 'within a week' },
  { value: '30d', title: 'within 30 days' },
  { value: '1y', title: 'within a year' },
]

/** Finds files by their names and contents, over all accounts. */
export function SearchPage() {
  const [search, setSearch] = useSearchParams()
  const [text, setText] = useState(search.get('q') ?? '')
  const [within, setWithin] = useState(search.get('in') ?? '')
  const q = search.get('q') ?? ''
  useEffect(() => {
    document.title = `${q ? `${q} · ` : ''}Search · Deft Heron`
    setText(q)
  }, [q])
  const set = (change: Record<string, string>) => {
    const next = new URLSearchParams(search)
    for (const [name, value] of Object.entries(change)) if (value) next.set(name, value)
      else next.delete(name)
    setSearch(next, { replace: true })
  }
  const type = search.get('type') ?? ''
  const newer = search.get('newer') ?? ''
  const folder = search.get('in') ?? ''
  const tag = search.get('tag') ?? ''
  const tags = useQuery({ queryKey: ['tags'], queryFn: () => data(api.GET('/api/v1/tags')) })
  const found = useInfiniteQuery({
    queryKey: ['search', q, type, newer, folder, tag],
    queryFn: ({ pageParam, signal }) =>
      data(
        api.GET('/api/v1/search', {
          params: { query: { q: q || undefined, tag: tag ? [tag] : undefined, cursor: pageParam || undefined, type: type ? [type] : undefined, newer_than: newer || undefined, in: folder ? [folder] : undefined } },
          signal,
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    enabled: q !== '' || tag !== '',
    retry: false,
  })
  const pages = found.data?.pages ?? []
  const hits = pages.flatMap((page) => page.hits)
  const last = pages.at(-1)
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="py-3 text-title font-semibold">Search</h1>
      <form
        role="search"
        className="grid gap-3 pb-4 md:grid-cols-[minmax(0,2fr)_minmax(0,1fr)_minmax(0,1fr)_minmax(0,1fr)_minmax(0,1.5fr)_auto] md:items-end"
        onSubmit={(event) => {
          event.preventDefault()
          set({ q: text.trim(), in: within })
        }}
      >
        <Field label="Words" placeholder={'permit AND "fish pass"'} value={text} onChange={(event) => setText(event.target.value)} autoFocus={q === ''} />
        <SelectField label="Type" value={type} onChange={(value) => set({ type: value })} choices={types} />
        <SelectField label="Changed" value={newer} onChange={(value) => set({ newer: value })} choices={ages} />
        <SelectField label="Tag" value={tag} onChange={(value) => set({ tag: value })} choices={tagChoices(tags.data, tag)} />
        <TargetField label="In a folder (optional)" value={within} onChange={setWithin} />
        <Button look="first" type="submit" disabled={text.trim() === ''}>
          Search
        </Button>
      </form>
      {q === '' && tag === '' && <Introduction />}
      {found.isError && <Failed error={found.error} />}
      {found.isLoading && (
        <p role="status" className="text-soft">
          Searching…
        </p>
      )}
      {last && (
        <section aria-label="Hits" className="max-w-5xl">
          <p role="status" className="border-b border-line pb-2 text-small text-soft">
            {hits.length === 0 ? 'Nothing was found.' : `${last.next ? `The first ${some(hits.length, 'hit')}` : some(hits.length, 'hit')}.`}
            {last.more && ' More than 10,000 entries match, so the newest come first, not the best.'}
            {last.cut && ' The search took too long and was cut off: use more words or filters.'}
            {last.listing && last.listing.length > 0 && ` Not everything is listed yet in ${last.listing.join(', ')}: more may be found later.`}
          </p>
          <ul>
            {hits.map((hit) => (
              <HitRow key={hit.address} hit={hit} />
            ))}
          </ul>
          {found.hasNextPage && (
            <Button className="mt-3" disabled={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>
              Show more
            </Button>
          )}
        </section>
      )}
    </div>
  )
}

/** The tags that are in use, and the one that is asked for. */
function tagChoices(tags: components['schemas']['TagCount'][] | undefined, asked: string) {
  const known = tags ?? []
  const listed = known.some((one) => one.tag === asked) || asked === '' ? known : [{ tag: asked, entries: 0 }, ...known]
  return [{ value: '', title: 'any tag or none' }, ...listed.map((one) => ({ value: one.tag, title: plain(one.tag) }))]
}

function HitRow({ hit }: { hit: Hit }) {
  const folder = hit.kind === 'folder'
  return (
    <li className="border-b border-line py-2">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <Link to={filesLink(folder ? hit.address : parent(hit.address))} className="font-semibold wrap-anywhere text-plumage hover:underline">
          {plain(hit.name)}
        </Link>
        {hit.tags && <span className="flex-1 text-small text-soft wrap-anywhere">{hit.tags.map(plain).join(' · ')}</span>}
        <span className="text-small whitespace-nowrap text-soft">
          {hit.kind === 'file' ? bytes(hit.size) : hit.kind}
          {hit.modified && ` · ${when(hit.modified)}`}
        </span>
      </div>
      <p className="font-mono text-small wrap-anywhere text-soft">{plain(folder ? hit.address : parent(hit.address))}</p>
      {hit.excerpt && (
        <p className="pt-1 text-small wrap-anywhere">
          …{' '}
          {hit.excerpt.map((part, i) => (i % 2 === 1 ? <mark key={i} className="bg-transparent font-semibold text-ochre">{plain(part)}</mark> : <span key={i}>{plain(part)}</span>))} …
        </p>
      )}
    </li>
  )
}

const searched = { off: 'nothing', names: 'names', contents: 'names and contents' }

/** What of an account is searched, which who may link accounts can change. */
function Searched({ state }: { state: components['schemas']['SearchState'] }) {
  const client = useQueryClient()
  const change = useMutation({
    mutationFn: (search: keyof typeof searched) => data(api.PUT('/api/v1/accounts/{name}/search', { params: { path: { name: state.account } }, body: { search } })),
    onSettled: () => client.invalidateQueries({ queryKey: ['search states'] }),
  })
  if (!useMayChange()) return searched[state.search]
  return (
    <>
      <select
        aria-label={`What of ${state.account} is searched`}
        value={change.isPending ? change.variables : state.search}
        onChange={(event) => change.mutate(event.target.value as keyof typeof searched)}
        className="h-7 rounded-md border border-line bg-ground px-2"
      >
        {Object.entries(searched).map(([value, title]) => (
          <option key={value} value={value}>
            {title}
          </option>
        ))}
      </select>
      {change.isError && <Failed error={change.error} />}
    </>
  )
}

/** What can be searched, and how far the index has come. */
function Introduction() {
  const states = useQuery({ queryKey: ['search states'], queryFn: () => data(api.GET('/api/v1/search/accounts')), refetchInterval: 5000 })
  return (
    <section aria-label="Accounts" className="max-w-4xl">
      <p className="pb-3 text-soft">
        Words that all have to be there; &quot;phrases&quot;, AND, OR, NOT and begin* work too. Letter case and accents do not count, and any part of a name is found. Contents are searched in accounts where that is switched on.
      </p>
      {states.isError && <Failed error={states.error} />}
      {states.data && states.data.length > 0 && (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-4 font-normal">Account</th>
              <th className="py-1 pr-4 font-normal">Searched</th>
              <th className="py-1 pr-4 text-right font-normal">Entries</th>
              <th className="hidden py-1 pr-4 text-right font-normal sm:table-cell">Folders to list</th>
              <th className="hidden py-1 pr-4 text-right font-normal sm:table-cell">Contents read</th>
              <th className="hidden py-1 pr-4 text-right font-normal sm:table-cell">To read</th>
              <th className="py-1 text-right font-normal">Not readable</th>
            </tr>
          </thead>
          <tbody>
            {states.data.map((state) => (
              <tr key={state.account} className="h-8 border-b border-line">
                <td className="pr-4">
                  <Link to={`/accounts/${state.account}`} className="text-plumage hover:underline">
                    {state.account}
                  </Link>
                </td>
                <td className="pr-4">
                  <Searched state={state} />
                </td>
                <td className="pr-4 text-right">{count(state.entries)}</td>
                <td className="hidden pr-4 text-right sm:table-cell">{count(state.waiting)}</td>
                <td className="hidden pr-4 text-right sm:table-cell">{count(state.texts)}</td>
                <td className="hidden pr-4 text-right sm:table-cell">{count(state.due)}</td>
                <td className={`text-right ${state.unread > 0 ? 'text-ochre' : ''}`}>{count(state.unread)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  )
}
