import type { Entry } from '../api/client'

export type Column = 'name' | 'size' | 'modified'
export type Order = { by: Column; down: boolean }

/** The order in which folders come. */
export const asListed: Order = { by: 'name', down: false }

const compare: Record<Column, (a: Entry, b: Entry) => number> = {
  name: () => 0,
  size: (a, b) => (a.kind === 'folder' ? -1 : a.size) - (b.kind === 'folder' ? -1 : b.size),
  modified: (a, b) => (a.modified ?? '').localeCompare(b.modified ?? ''),
}

/** Entries whose names hold a text, in an order. Equal ones stay as they were listed. */
export function arranged(entries: Entry[], filter: string, order: Order): Entry[] {
  const wanted = filter.trim().toLocaleLowerCase()
  const left = wanted ? entries.filter((entry) => entry.name.toLocaleLowerCase().includes(wanted)) : entries
  if (order.by === 'name') return order.down ? left.toReversed() : left
  const sorted = left.toSorted(compare[order.by])
  return order.down ? sorted.toReversed() : sorted
}
