import { useState } from 'react'
import type { Resources } from '../api/client'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { plain, some } from '../ui/format'

/** A name for an account at a place behind a sign-in, made of both names. */
export const nameFor = (name: string, value: string) =>
  `${name}-${value}`.toLowerCase().replace(/[^a-z0-9]+/g, '-').slice(0, 40).replace(/^-|-$/g, '')

type Props = { resources: Resources; busy: boolean; onTake: (values: string[]) => void; onBack?: () => void }

/** The places that one sign-in leads to, of which one, several or all are ticked. */
export function ResourceChoice({ resources, busy, onTake, onBack }: Props) {
  const free = resources.resources.filter((place) => !place.linked)
  const [ticked, setTicked] = useState<string[]>([])
  const all = free.length > 0 && ticked.length === free.length
  const toggle = (value: string) => setTicked(ticked.includes(value) ? ticked.filter((one) => one !== value) : [...ticked, value])
  return (
    <div className="grid max-w-2xl gap-4">
      {resources.resources.length === 0 ? (
        <p className="text-soft">This sign-in cannot list any {resources.option}.</p>
      ) : (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="w-8 py-1 font-normal">
                <Checkbox checked={all ? true : ticked.length > 0 ? 'indeterminate' : false} onChange={() => setTicked(all ? [] : free.map((place) => place.value))} label={`All ${resources.option}s`} />
              </th>
              <th className="py-1 font-normal capitalize">{resources.option}</th>
              <th className="py-1 font-normal">
                <span className="sr-only">Note</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {resources.resources.map((place) => (
              <tr key={place.value} className="h-8 border-b border-line">
                <td>{!place.linked && <Checkbox checked={ticked.includes(place.value)} onChange={() => toggle(place.value)} label={plain(place.value)} />}</td>
                <td className="font-mono text-small wrap-anywhere">{plain(place.value)}</td>
                <td className="text-soft">{place.linked ? `linked as /${place.linked}` : place.note}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <div className="flex gap-2">
        {free.length > 0 && (
          <Button look="first" disabled={busy || ticked.length === 0} onClick={() => onTake(ticked)}>
            {busy ? 'Linking…' : `Link ${ticked.length === 0 ? 'those ticked' : some(ticked.length, resources.option)}`}
          </Button>
        )}
        {onBack && <Button onClick={onBack}>Back to the form</Button>}
      </div>
    </div>
  )
}
