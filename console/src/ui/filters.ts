import { useSearchParams } from 'react-router'

/** The filters of a page, which are kept in its address. */
export function useFilters() {
  const [search, setSearch] = useSearchParams()
  const set = (name: string, value: string) =>
    setSearch(
      (before) => {
        const next = new URLSearchParams(before)
        if (value) next.set(name, value)
        else next.delete(name)
        return next
      },
      { replace: true },
    )
  return { get: (name: string) => search.get(name) ?? '', has: (name: string) => search.has(name), set, clear: () => setSearch({}, { replace: true }) }
}
