import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data, type Token } from '../api/client'
import { TargetField } from '../files/TargetField'
import { Empty, Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Dialog } from '../ui/Dialog'
import { Field } from '../ui/Field'
import { when } from '../ui/format'
import { ShownOnce } from '../ui/ShownOnce'
import { Skeleton } from '../ui/Skeleton'

const scopes = [
  { value: 'read', title: 'Look and read files' },
  { value: 'files', title: 'Change files' },
  { value: 'jobs', title: 'Jobs and runs' },
  { value: 'accounts', title: 'Accounts' },
  { value: 'settings', title: 'Settings, of an owner' },
]

const scopeTitle = (scope: string) => scopes.find((one) => one.value === scope)?.title ?? scope

/** Tokens for programs. */
export function TokensPage() {
  const client = useQueryClient()
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: () => data(api.GET('/api/v1/tokens')) })
  const [making, setMaking] = useState(false)
  const revoke = useMutation({
    mutationFn: (id: string) => api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } }),
    onSettled: () => void client.invalidateQueries({ queryKey: ['tokens'] }),
  })
  return (
    <>
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-title font-semibold">Tokens</h1>
        <Button look="first" onClick={() => setMaking(true)}>
          Create a token
        </Button>
      </div>
      <p className="max-w-3xl text-soft">A token lets a program act in your name, within its scopes and grants, until it expires.</p>
      {(tokens.isError || revoke.isError) && <Failed error={tokens.error ?? revoke.error} />}
      {tokens.isPending && <Skeleton rows={3} />}
      {tokens.data?.length === 0 && <Empty>No program has a token yet.</Empty>}
      {tokens.data && tokens.data.length > 0 && (
        <table className="mt-2 w-full max-w-5xl">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-4 font-normal">Name</th>
              <th className="py-1 pr-4 font-normal">User</th>
              <th className="py-1 pr-4 font-normal">For</th>
              <th className="hidden py-1 pr-4 font-normal sm:table-cell">Last used</th>
              <th className="hidden py-1 pr-4 font-normal sm:table-cell">Expires</th>
              <th className="py-1 font-normal">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {tokens.data.map((token) => (
              <tr key={token.id} className="border-b border-line align-baseline">
                <td className="py-1 pr-4 wrap-anywhere">{token.name}</td>
                <td className="py-1 pr-4">{token.user}</td>
                <td className="py-1 pr-4 text-small">
                  <Use token={token} />
                </td>
                <td className="hidden py-1 pr-4 text-small whitespace-nowrap sm:table-cell">{token.seen ? when(token.seen) : 'never'}</td>
                <td className="hidden py-1 pr-4 text-small whitespace-nowrap sm:table-cell">{when(token.expires)}</td>
                <td className="py-1 text-right">
                  <Button look="quiet" aria-label={`Revoke ${token.name}`} disabled={revoke.isPending} onClick={() => revoke.mutate(token.id)}>
                    Revoke
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {making && <CreateToken onClose={() => setMaking(false)} />}
    </>
  )
}

function Use({ token }: { token: Token }) {
  return (
    <>
      {token.scopes.length > 0 ? token.scopes.map(scopeTitle).join(', ') : 'everything that its user may do'}
      {token.grants.map((grant) => (
        <span key={grant.address} className="block font-mono break-all">
          {grant.address}
        </span>
      ))}
    </>
  )
}

function CreateToken({ onClose }: { onClose: () => void }) {
  const client = useQueryClient()
  const [name, setName] = useState('')
  const [chosen, setChosen] = useState<string[]>(['read'])
  const [address, setAddress] = useState('')
  const [days, setDays] = useState('90')
  const make = useMutation({
    mutationFn: () =>
      data(
        api.POST('/api/v1/tokens', {
          body: { name, scopes: chosen, grants: address ? [{ address, role: 'operator' }] : undefined, days: Number(days) },
        }),
      ),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['tokens'] }),
  })
  return (
    <Dialog open onClose={onClose} title="Create a token" description={make.data ? 'Copy it now: it is shown this once, and nowhere kept.' : 'It never does more than you may.'}>
      {make.data ? (
        <ShownOnce label="The token" text={make.data.secret} copy="Copy the token" onDone={onClose} />
      ) : (
        <form
          className="grid gap-3"
          onSubmit={(event) => {
            event.preventDefault()
            make.mutate()
          }}
        >
          <Field label="Name" help="What will use it, such as nightly-report." value={name} onChange={(event) => setName(event.target.value)} />
          <fieldset className="grid gap-1">
            <legend className="text-small text-soft">For</legend>
            {scopes.map((scope) => (
              <label key={scope.value} className="flex items-center gap-2">
                <Checkbox
                  label={scope.title}
                  checked={chosen.includes(scope.value)}
                  onChange={(on) => setChosen(on ? [...chosen, scope.value] : chosen.filter((one) => one !== scope.value))}
                />
                {scope.title}
              </label>
            ))}
          </fieldset>
          <TargetField label="Only for this account or folder (empty for all that you see)" value={address} onChange={setAddress} />
          <Field className="w-40" label="Days until it expires" inputMode="numeric" value={days} onChange={(event) => setDays(event.target.value.replace(/\D/g, ''))} />
          {make.isError && <Failed error={make.error} />}
          <div>
            <Button look="first" type="submit" disabled={!name || chosen.length === 0 || !Number(days) || make.isPending}>
              Create the token
            </Button>
          </div>
        </form>
      )}
    </Dialog>
  )
}
