import { useState } from 'react'
import type { Entry } from '../api/client'
import { plain } from '../ui/format'

/** A small picture of a file, made by the service: nothing where there is none. */
export function Picture({ entry, size, instead, className }: { entry: Entry; size: 'small' | 'large'; instead?: React.ReactNode; className: string }) {
  const [failed, setFailed] = useState<string>()
  const source = `/api/v1/preview?${new URLSearchParams({ address: entry.address, size, revision: entry.revision ?? entry.modified ?? '' })}`
  if (!entry.preview || failed === source) return instead ?? null
  return <img src={source} alt={`Preview of ${plain(entry.name)}`} loading="lazy" decoding="async" draggable={false} onError={() => setFailed(source)} className={className} />
}
