import { useQuery } from '@tanstack/react-query'
import { useId } from 'react'
import { api, data } from '../api/client'

type Props = { label: string; value: string; onChange: (value: string) => void; files?: boolean }

/** The address of a folder, completed from what is there. */
export function TargetField({ label, value, onChange, files }: Props) {
  const list = useId()
  const folder = value.startsWith('/') ? value.slice(0, value.lastIndexOf('/') + 1) : '/'
  const found = useQuery({
    queryKey: ['completion', folder],
    queryFn: () => data(api.GET('/api/v1/tree', { params: { query: { address: folder, limit: 200 } } })),
    retry: false,
  })
  const offered = (found.data?.entries ?? []).filter((entry) => files || entry.kind === 'folder')
  return (
    <label className="grid min-w-0 gap-1">
      <span className="text-small text-soft">{label}</span>
      <input
        value={value}
        onChange={(event) => onChange(event.target.value)}
        list={list}
        placeholder="/account/folder"
        spellCheck={false}
        autoComplete="off"
        className="h-8 rounded-md border border-line bg-ground px-3 font-mono text-small placeholder:text-soft"
      />
      <datalist id={list}>
        {offered.map((entry) => (
          <option key={entry.address} value={entry.address} />
        ))}
      </datalist>
    </label>
  )
}
