import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { type Account, api, data, type Speed } from '../api/client'
import { Button } from '../ui/Button'
import { Field, SelectField } from '../ui/Field'
import { bytes, when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { useSpeeds } from './queries'

const sizes = [0, 4 << 10, 64 << 10, 1 << 20, 16 << 20, 64 << 20]
const phases = [['write', 'Writing'], ['read', 'Reading'], ['remove', 'Removing']] as const

/** How fast the account is, measured with scratch files, beside the time before or beside another account. */
export function SpeedSection({ account, others }: { account: Account; others: Account[] }) {
  const client = useQueryClient()
  const speeds = useSpeeds(account.name)
  const [size, setSize] = useState(1 << 20)
  const [number, setNumber] = useState('16')
  const [other, setOther] = useState('')
  const measure = useMutation({
    mutationFn: async () => {
      for (const name of [account.name, other].filter(Boolean)) {
        await data(api.POST('/api/v1/accounts/{name}/speeds', { params: { path: { name } }, body: { size, number: Number(number), parallel: 4 } }))
      }
    },
    onSettled: () => void client.invalidateQueries({ queryKey: ['speeds'] }),
  })
  const beside = useSpeeds(other || account.name)
  const latest = speeds.data?.[0]
  const alike = (one: Speed) => latest && one.size === latest.size && one.number === latest.number && one.parallel === latest.parallel
  const against = other ? beside.data?.find(alike) : speeds.data?.slice(1).find(alike)
  if (account.read_only || account.state === 'suspended') return null
  return (
    <section className="mt-6" aria-label="Speed">
      <h2 className="border-b border-line py-1 text-large font-semibold">Speed</h2>
      <form
        className="mt-2 flex flex-wrap items-end gap-3"
        onSubmit={(event) => {
          event.preventDefault()
          measure.mutate()
        }}
      >
        <SelectField label="Size of a scratch file" value={String(size)} onChange={(value) => setSize(Number(value))} choices={sizes.map((one) => ({ value: String(one), title: bytes(one) }))} />
        <Field label="How many" type="number" min={1} max={1000} value={number} onChange={(event) => setNumber(event.target.value)} className="w-28" required />
        <SelectField label="Compare with" value={other} onChange={setOther} choices={[{ value: '', title: 'the previous result' }, ...others.map((one) => ({ value: one.name, title: one.address }))]} />
        <Button type="submit" disabled={measure.isPending}>
          {measure.isPending ? 'Measuring…' : 'Measure'}
        </Button>
      </form>
      {measure.isError && <Failed error={measure.error} />}
      {latest ? (
        <Chart now={latest} nowTitle={other ? account.address : when(latest.at)} before={against} beforeTitle={other ? `/${other}` : against ? when(against.at) : ''} />
      ) : (
        <p className="mt-2 text-soft">Not measured yet. Scratch files are written below .heron at its start, read back and deleted.</p>
      )}
    </section>
  )
}

function Chart({ now, nowTitle, before, beforeTitle }: { now: Speed; nowTitle: string; before?: Speed; beforeTitle: string }) {
  const most = Math.max(...phases.map(([phase]) => Math.max(now[phase].files, before?.[phase].files ?? 0)), 1e-9)
  const bar = (value: Speed, phase: 'write' | 'read' | 'remove', title: string, colour: string) => (
    <div className="grid grid-cols-[11rem_minmax(6rem,1fr)_7rem_7rem_8rem] items-center gap-x-3 max-sm:grid-cols-[9.5rem_1fr_6rem]">
      <span className="truncate text-small text-soft">{title}</span>
      <span className="h-3">
        <span className={`block h-3 rounded-sm ${colour}`} style={{ width: `${Math.max(0.5, (value[phase].files / most) * 100)}%` }} />
      </span>
      <span className="text-right whitespace-nowrap">{value[phase].files.toFixed(1)} files/s</span>
      <span className="text-right whitespace-nowrap max-sm:hidden">{phase === 'remove' ? '' : `${bytes(value[phase].rate)}/s`}</span>
      <span className="text-right whitespace-nowrap text-soft max-sm:hidden">{(value[phase].delay * 1000).toFixed(1)} ms a file</span>
    </div>
  )
  return (
    <div className="mt-3 grid gap-3">
      <p className="text-small text-soft">
        {now.number} files of {bytes(now.size)}, {now.parallel} in parallel; the time of a file is the median.
      </p>
      {phases.map(([phase, title]) => (
        <div key={phase} className="grid gap-0.5">
          <span>{title}</span>
          {bar(now, phase, nowTitle, 'bg-plumage')}
          {before && bar(before, phase, beforeTitle, 'bg-line')}
        </div>
      ))}
    </div>
  )
}
