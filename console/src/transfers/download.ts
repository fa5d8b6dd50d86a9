import { contentUrl, type Entry } from '../api/client'

let last = 0

/** Fetches entries by the browser's own download: a file as it is, all else as one archive. */
export function download(entries: Entry[]) {
  const transfer = `download-${Date.now()}-${++last}`
  const only = entries.length === 1 ? entries[0] : undefined
  const link = document.createElement('a')
  if (only && only.kind === 'file') link.href = contentUrl(only.address, { download: '1', transfer })
  else {
    const query = new URLSearchParams({ transfer })
    for (const entry of entries) query.append('address', entry.address)
    link.href = `/api/v1/archive?${query}`
  }
  link.download = ''
  document.body.append(link)
  link.click()
  link.remove()
}
