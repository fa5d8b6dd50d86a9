import type { Entry } from '../api/client'

/** How an entry stands to the one of its name in the other pane. */
export type Mark = 'only here' | 'differs' | 'equal' | 'same size'

const hashesOf = (entry: Entry) => new Map((entry.hashes ?? []).map((hash) => [hash.split('=')[0]!, hash] as const))

/** Marks by name, as far as listings tell: a comparison reads the rest. */
export function marksOf(here: Entry[], there: Entry[]): Map<string, Mark> {
  const others = new Map(there.map((entry) => [entry.name, entry]))
  const marks = new Map<string, Mark>()
  for (const entry of here) {
    const other = others.get(entry.name)
    if (!other) marks.set(entry.name, 'only here')
    else if (entry.kind === 'folder' && other.kind === 'folder') continue // their content is not known
    else marks.set(entry.name, compared(entry, other))
  }
  return marks
}

/** By a hash that both have, else by size and time. Many accounts keep no times: then only the size is known. */
function compared(a: Entry, b: Entry): Mark {
  if (a.kind !== b.kind || a.size !== b.size) return 'differs'
  const theirs = hashesOf(b)
  for (const [kind, hash] of hashesOf(a)) if (theirs.has(kind)) return theirs.get(kind) === hash ? 'equal' : 'differs'
  return a.modified && b.modified && Math.abs(Date.parse(a.modified) - Date.parse(b.modified)) < 2000 ? 'equal' : 'same size'
}
