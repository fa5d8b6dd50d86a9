import { useQuery } from '@tanstack/react-query'
import { FolderSearch } from 'lucide-react'
import { lazy, Suspense, useId, useState } from 'react'
import { api, data } from '../api/client'

const PickerDialog = lazy(() => import('./PickerDialog'))

type Props = { label: string; value: string; onChange: (value: string) => void; files?: boolean }

/** The address of a folder: typed and completed, or chosen in the tree. */
export function TargetField({ label, value, onChange, files }: Props) {
  const list = useId()
  const [picking, setPicking] = useState(false)
  const folder = value.startsWith('/') ? value.slice(0, value.lastIndexOf('/') + 1) : '/'
  const found = useQuery({
    queryKey: ['completion', folder],
    queryFn: () => data(api.GET('/api/v1/tree', { params: { query: { address: folder, limit: 200 } } })),
    retry: false,
  })
  const offered = (found.data?.entries ?? []).filter((entry) => files || entry.kind === 'folder')
  return (
    <div className="flex min-w-0 items-end gap-2">
      <label className="grid min-w-0 flex-1 gap-1">
        <span className="text-small text-soft">{label}</span>
        <input
          value={value}
          onChange={(event) => onChange(event.target.value)}
          list={list}
          placeholder="/account/folder"
          spellCheck={false}
          autoComplete="off"
          className="h-8 min-w-0 rounded-md border border-line bg-ground px-3 font-mono text-small placeholder:text-soft"
        />
        <datalist id={list}>
          {offered.map((entry) => (
            <option key={entry.address} value={entry.address} />
          ))}
        </datalist>
      </label>
      <button type="button" onClick={() => setPicking(true)} aria-label={`Choose: ${label}`} title="Choose in the tree" className="inline-flex size-8 shrink-0 items-center justify-center rounded-md border border-line hover:border-plumage">
        <FolderSearch className="size-4" aria-hidden="true" />
      </button>
      {picking && (
        <Suspense>
          <PickerDialog title={label} value={value} onChoose={onChange} onClose={() => setPicking(false)} />
        </Suspense>
      )}
    </div>
  )
}
