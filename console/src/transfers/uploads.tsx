import { useQueryClient } from '@tanstack/react-query'
import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useReducer, useRef } from 'react'
import { api, data, entityTag, type Problem } from '../api/client'

/** A file that is to be sent into a folder, by the names below it. */
export type Sending = { folder: string; names: string[]; file: File }

export type Upload = Sending & {
  id: number
  state: 'waiting' | 'sending' | 'done' | 'failed' | 'conflict'
  sent: number
  replace?: boolean
  problem?: Problem
}

type Action =
  | { do: 'add'; uploads: Upload[] }
  | { do: 'change'; id: number; to: Partial<Upload> }
  | { do: 'drop'; ids: ReadonlySet<number> }

function reduce(uploads: Upload[], action: Action): Upload[] {
  switch (action.do) {
    case 'add':
      return [...uploads, ...action.uploads]
    case 'change':
      return uploads.map((upload) => (upload.id === action.id ? { ...upload, ...action.to } : upload))
    case 'drop':
      return uploads.filter((upload) => !action.ids.has(upload.id))
  }
}

type Uploads = {
  uploads: Upload[]
  send: (sendings: Sending[]) => void
  again: (upload: Upload, replace: boolean) => void
  stop: (upload: Upload) => void
  tidy: () => void
}

const UploadsContext = createContext<Uploads>({ uploads: [], send: () => {}, again: () => {}, stop: () => {}, tidy: () => {} })

/** The files that are being sent, whichever page is open. */
export const useUploads = () => useContext(UploadsContext)

const atOnce = 3
let lastId = 0

export function UploadsProvider({ children }: { children: ReactNode }) {
  const client = useQueryClient()
  const [uploads, dispatch] = useReducer(reduce, [])
  const requests = useRef(new Map<number, XMLHttpRequest>())
  const change = useCallback((id: number, to: Partial<Upload>) => dispatch({ do: 'change', id, to }), [])

  const begin = useCallback(
    async (upload: Upload) => {
      const request = new XMLHttpRequest()
      requests.current.set(upload.id, request)
      const ended = (to: Partial<Upload>) => {
        requests.current.delete(upload.id)
        change(upload.id, to)
      }
      change(upload.id, { state: 'sending', sent: 0, problem: undefined })
      const query = new URLSearchParams({ address: upload.folder, modified: new Date(upload.file.lastModified).toISOString(), transfer: `upload-${upload.id}` })
      for (const name of upload.names) query.append('name', name)
      request.open('PUT', `/api/v1/content?${query}`)
      request.setRequestHeader('Content-Type', 'application/octet-stream')
      if (upload.replace) {
        const revision = await revisionThere(upload).catch(() => undefined)
        if (revision) request.setRequestHeader('If-Match', entityTag(revision))
        if (!requests.current.has(upload.id)) return // stopped meanwhile
      }
      let last = 0
      request.upload.onprogress = (event) => {
        if (Date.now() - last < 200) return
        last = Date.now()
        change(upload.id, { sent: event.loaded })
      }
      request.onload = () => {
        if (request.status === 201) {
          ended({ state: 'done', sent: upload.file.size })
          void client.invalidateQueries({ queryKey: ['folder'] })
          return
        }
        const problem = problemOf(request)
        ended(problem.cause === 'in-the-way' ? { state: 'conflict', problem } : { state: 'failed', problem })
      }
      request.onerror = () =>
        ended({ state: 'failed', problem: { title: 'Away', status: 0, detail: 'The connection broke off.', remedy: 'Check that the service runs, and send it again.' } })
      request.onabort = () => ended({ state: 'failed', problem: { title: 'Stopped', status: 0, detail: 'It was stopped; nothing of it is there.', remedy: '' } })
      request.send(upload.file)
    },
    [change, client],
  )

  const moving = uploads.filter((upload) => upload.state === 'sending').length
  const next = moving < atOnce ? uploads.find((upload) => upload.state === 'waiting') : undefined
  useEffect(() => {
    if (next && !requests.current.has(next.id)) void begin(next)
  }, [next, begin])

  // Leaving the page would break off what is being sent: the browser asks.
  useEffect(() => {
    if (moving === 0) return
    const ask = (event: BeforeUnloadEvent) => event.preventDefault()
    window.addEventListener('beforeunload', ask)
    return () => window.removeEventListener('beforeunload', ask)
  }, [moving])

  const value = useMemo<Uploads>(
    () => ({
      uploads,
      send: (sendings) => dispatch({ do: 'add', uploads: sendings.map((sending) => ({ ...sending, id: ++lastId, state: 'waiting', sent: 0 })) }),
      again: (upload, replace) => change(upload.id, { state: 'waiting', replace, problem: undefined }),
      stop: (upload) => {
        const request = requests.current.get(upload.id)
        if (request) request.abort()
        else dispatch({ do: 'drop', ids: new Set([upload.id]) })
      },
      tidy: () => dispatch({ do: 'drop', ids: new Set(uploads.filter((one) => one.state !== 'sending' && one.state !== 'waiting').map((one) => one.id)) }),
    }),
    [uploads, change],
  )
  return <UploadsContext.Provider value={value}>{children}</UploadsContext.Provider>
}

/** What is there now, to be replaced and nothing else. */
async function revisionThere(upload: Upload): Promise<string | undefined> {
  let address = upload.folder
  for (const [i, name] of upload.names.entries()) {
    const page = await data(api.GET('/api/v1/tree', { params: { query: { address, fresh: true } } }))
    const found = page.entries.find((entry) => entry.name === name)
    if (!found) return undefined
    if (i === upload.names.length - 1) return found.revision
    address = found.address
  }
  return undefined
}

function problemOf(request: XMLHttpRequest): Problem {
  try {
    return JSON.parse(request.responseText) as Problem
  } catch {
    return { title: 'Failed', status: request.status, detail: `The service answered ${request.status}.`, remedy: 'Look into its log.' }
  }
}

/** Files from a file input or a folder input. */
export const sendingsOf = (folder: string, files: Iterable<File>): Sending[] =>
  [...files].map((file) => ({ folder, file, names: (file.webkitRelativePath || file.name).split('/') }))

/** Files and folders that were dropped onto the page. */
export async function dropped(folder: string, items: DataTransferItemList): Promise<Sending[]> {
  // Taken before the first wait: the list is gone afterwards.
  const entries = [...items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null)
  const sendings: Sending[] = []
  const walk = async (entry: FileSystemEntry, names: string[]): Promise<void> => {
    if (entry.isFile) {
      const file = await new Promise<File>((resolve, reject) => (entry as FileSystemFileEntry).file(resolve, reject))
      sendings.push({ folder, file, names })
      return
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader()
    for (;;) {
      const batch = await new Promise<FileSystemEntry[]>((resolve, reject) => reader.readEntries(resolve, reject))
      if (batch.length === 0) return
      for (const child of batch) await walk(child, [...names, child.name])
    }
  }
  for (const entry of entries) await walk(entry, [entry.name])
  return sendings
}
