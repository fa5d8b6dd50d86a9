import { useQueries } from '@tanstack/react-query'
import { useMemo } from 'react'
import { api, data, type Entry } from '../api/client'

export type Folders = { folders: Entry[]; more: boolean }

const mostPages = 20

/** The folders in a folder: so many, or those of so many pages. */
async function foldersOf(address: string, want: number): Promise<Folders> {
  const folders: Entry[] = []
  let cursor = ''
  for (let pages = 0; pages < mostPages; pages++) {
    const page = await data(api.GET('/api/v1/tree', { params: { query: { address, limit: 1000, cursor: cursor || undefined } } }))
    folders.push(...page.entries.filter((entry) => entry.kind === 'folder'))
    cursor = page.next ?? ''
    if (!cursor || folders.length >= want) break
  }
  return { folders: folders.slice(0, want), more: cursor !== '' || folders.length > want }
}

export type TreeRow = { address: string; name: string; level: number; open: boolean; kind: 'folder' | 'loading' | 'failed' | 'more' | 'empty'; parent: string; entry?: Entry; place: number; of: number; why?: string }

/** The rows of a tree of which some folders are open, in order. */
export function useTreeRows(open: ReadonlySet<string>, wants: ReadonlyMap<string, number>, usual: number): TreeRow[] {
  const addresses = ['/', ...[...open].filter((address) => address !== '/').sort()]
  const answers = useQueries({
    queries: addresses.map((address) => ({
      queryKey: ['folder', address, 'folders', wants.get(address) ?? usual],
      queryFn: () => foldersOf(address, wants.get(address) ?? usual),
      staleTime: 10_000,
      retry: false,
    })),
  })
  const known = new Map(addresses.map((address, i) => [address, answers[i]!]))
  const version = answers.map((answer) => `${answer.dataUpdatedAt} ${answer.errorUpdatedAt} ${answer.status}`).join()
  return useMemo(() => {
    const rows: TreeRow[] = []
    const add = (parent: string, level: number) => {
      const answer = known.get(parent)
      const at = { parent, level, open: false, place: 1, of: 1 }
      if (!answer || answer.isPending) rows.push({ ...at, address: `${parent} loading`, name: 'Loading…', kind: 'loading' })
      else if (answer.isError) rows.push({ ...at, address: `${parent} failed`, name: answer.error instanceof Error ? answer.error.message : 'This folder cannot be listed.', kind: 'failed' })
      else {
        const { folders, more } = answer.data
        folders.forEach((entry, i) => {
          const isOpen = open.has(entry.address)
          rows.push({ address: entry.address, name: entry.name || '(no name)', level, open: isOpen, kind: 'folder', parent, entry, place: i + 1, of: folders.length })
          if (isOpen) add(entry.address, level + 1)
        })
        if (folders.length === 0 && parent !== '/') rows.push({ ...at, address: `${parent} empty`, name: 'No folders', kind: 'empty' })
        if (more) rows.push({ ...at, address: `${parent} more`, name: 'More folders…', kind: 'more' })
      }
    }
    add('/', 1)
    return rows
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [open, version])
}
