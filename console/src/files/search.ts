import { useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { api, data } from '../api/client'
import type { Folders } from './folders'

const mostFound = 50
const mostListed = 150
const atOnce = 4

export type Search = { found: string[]; listed: number; ended: boolean; bounded: boolean }

/**
 * Folders whose names hold a text. Those that are known are found at once. Below a folder the
 * search lists level by level, a bounded number of folders.
 */
export function useFolderSearch(text: string, below: string): Search {
  const client = useQueryClient()
  const [search, setSearch] = useState<Search>({ found: [], listed: 0, ended: true, bounded: false })
  useEffect(() => {
    const wanted = text.trim().toLocaleLowerCase()
    if (wanted === '') return setSearch({ found: [], listed: 0, ended: true, bounded: false })
    let left = false
    const matches = (address: string) => (address.split('/').pop() ?? '').toLocaleLowerCase().includes(wanted)
    const found = new Set<string>()
    for (const [, known] of client.getQueriesData<Folders>({ queryKey: ['folder'] }))
      for (const folder of known && 'folders' in known ? known.folders : []) if (matches(folder.address)) found.add(folder.address)
    let listed = 0
    const say = (ended: boolean, bounded = false) => !left && setSearch({ found: [...found].slice(0, mostFound), listed, ended, bounded })
    const list = async (address: string): Promise<string[]> => {
      const page = await data(api.GET('/api/v1/tree', { params: { query: { address, limit: 1000 } } }))
      listed++
      return page.entries.filter((entry) => entry.kind === 'folder').map((entry) => entry.address)
    }
    const go = async () => {
      let level = [below]
      while (level.length > 0 && !left && found.size < mostFound) {
        const next: string[] = []
        for (let at = 0; at < level.length && !left; at += atOnce) {
          if (listed >= mostListed) return say(true, true)
          const some = await Promise.all(level.slice(at, at + atOnce).map((address) => list(address).catch(() => [] as string[])))
          for (const address of some.flat()) {
            next.push(address)
            if (matches(address)) found.add(address)
          }
          say(false)
        }
        level = next
      }
      say(true, found.size >= mostFound)
    }
    say(below === '/')
    if (below !== '/') void go()
    return () => {
      left = true
    }
  }, [client, text, below])
  return search
}
