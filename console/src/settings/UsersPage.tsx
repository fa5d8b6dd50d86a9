import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data, type Grant, type User } from '../api/client'
import { TargetField } from '../files/TargetField'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { Field, SelectField } from '../ui/Field'
import { when } from '../ui/format'
import { Menu, MenuItem } from '../ui/Menu'
import { Skeleton } from '../ui/Skeleton'
import { useUsers } from './users'

const roles = [
  { value: 'viewer', title: 'Viewer: looks' },
  { value: 'operator', title: 'Operator: changes files, jobs and accounts' },
  { value: 'owner', title: 'Owner: everything' },
]

/** A change of users, after which they are fetched again. */
function useChange<Given>(change: (given: Given) => Promise<unknown>, then: () => void = () => {}) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: then,
    onSettled: () => void client.invalidateQueries({ queryKey: ['users'] }),
  })
}

/** Who may sign in, and what each sees. */
export function UsersPage() {
  const users = useUsers()
  const [adding, setAdding] = useState(false)
  const [edited, setEdited] = useState<string>()
  const [link, setLink] = useState<{ name: string; url: string }>()
  const makeLink = useChange(async (name: string) => {
    const made = await data(api.POST('/api/v1/users/{user}/signin-links', { params: { path: { user: name } } }))
    setLink({ name, url: made.url })
  })
  const disable = useChange((user: User) => api.PATCH('/api/v1/users/{user}', { params: { path: { user: user.name } }, body: { disabled: !user.disabled } }))
  const [removed, setRemoved] = useState<string>()
  const user = users.data?.find((one) => one.name === edited)
  return (
    <>
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-title font-semibold">Users</h1>
        <Button look="first" onClick={() => setAdding(true)}>
          Add a user
        </Button>
      </div>
      <p className="max-w-3xl text-soft">Operators and viewers see the accounts and folders that they have a grant for, and nothing else.</p>
      {users.isPending && <Skeleton rows={3} />}
      {[users.error, makeLink.error, disable.error].map((error, i) => error && <Failed key={i} error={error} />)}
      {users.data && (
        <table className="mt-2 w-full max-w-5xl">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-4 font-normal">Name</th>
              <th className="py-1 pr-4 font-normal">Role</th>
              <th className="py-1 pr-4 font-normal">Grants</th>
              <th className="hidden py-1 pr-4 font-normal md:table-cell">Signs in with</th>
              <th className="hidden py-1 pr-4 font-normal sm:table-cell">Last sign-in</th>
              <th className="py-1 font-normal">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {users.data.map((one) => (
              <tr key={one.name} className="border-b border-line align-baseline">
                <td className="py-1 pr-4 wrap-anywhere">
                  {one.name}
                  {one.disabled && <span className="ml-2 text-small text-soft">disabled</span>}
                </td>
                <td className="py-1 pr-4">{one.role}</td>
                <td className="py-1 pr-4 text-small">
                  <Grants user={one} />
                </td>
                <td className="hidden py-1 pr-4 text-small md:table-cell">{ways(one)}</td>
                <td className="hidden py-1 pr-4 text-small whitespace-nowrap sm:table-cell">{one.seen ? when(one.seen) : 'never'}</td>
                <td className="py-1 text-right whitespace-nowrap">
                  <Menu label={<span aria-label={`Actions for ${one.name}`}>Change</span>}>
                    <MenuItem onSelect={() => setEdited(one.name)}>Role and grants</MenuItem>
                    <MenuItem onSelect={() => makeLink.mutate(one.name)} disabled={one.disabled}>
                      Make a sign-in link
                    </MenuItem>
                    <MenuItem onSelect={() => disable.mutate(one)} disabled={one.name === 'owner'}>
                      {one.disabled ? 'Enable' : 'Disable'}
                    </MenuItem>
                    <MenuItem onSelect={() => setRemoved(one.name)} disabled={one.name === 'owner'}>
                      Remove
                    </MenuItem>
                  </Menu>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {adding && <AddUser onClose={() => setAdding(false)} />}
      {user && <EditUser user={user} onClose={() => setEdited(undefined)} />}
      {removed && <RemoveUser name={removed} onClose={() => setRemoved(undefined)} />}
      <Dialog open={link !== undefined} onClose={() => setLink(undefined)} title={`Sign-in link for ${link?.name ?? ''}`} description="It signs in once, within 15 minutes, and ends when you sign out.">
        <code className="block rounded-md border border-line bg-ground px-3 py-2 font-mono text-small break-all">{link?.url}</code>
        <Button className="mt-3" onClick={() => void navigator.clipboard.writeText(link?.url ?? '')}>
          Copy the link
        </Button>
      </Dialog>
    </>
  )
}

function ways(user: User) {
  const all = [
    user.password && 'password',
    user.codes && 'one-time code',
    user.passkeys > 0 && 'passkey',
    user.provider && 'OpenID provider',
  ].filter(Boolean)
  return all.length > 0 ? all.join(', ') : 'link only'
}

function Grants({ user }: { user: User }) {
  if (user.role === 'owner') return <span className="text-soft">everything</span>
  if (user.grants.length === 0) return <span className="text-ochre">nothing yet</span>
  return (
    <ul>
      {user.grants.map((grant) => (
        <li key={grant.address}>
          <span className="font-mono break-all">{grant.address}</span> <span className="text-soft">as {grant.role}</span>
        </li>
      ))}
    </ul>
  )
}

function AddUser({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState('')
  const [role, setRole] = useState('viewer')
  const [password, setPassword] = useState('')
  const add = useChange(
    () => api.POST('/api/v1/users', { body: { name, role: role as User['role'], password: password || undefined } }),
    onClose,
  )
  return (
    <Dialog open onClose={onClose} title="Add a user" description="Give the grants after that, on the list of users.">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault()
          add.mutate(undefined)
        }}
      >
        <Field label="Name" value={name} onChange={(event) => setName(event.target.value)} help="Lower-case letters, digits, dots and hyphens." />
        <SelectField label="Role" value={role} onChange={setRole} choices={roles} />
        <Field label="Password" type="password" autoComplete="new-password" value={password} onChange={(event) => setPassword(event.target.value)} help="At least 12 characters. Without one, the user signs in with a link that you make." />
        {add.isError && <Failed error={add.error} />}
        <div>
          <Button look="first" type="submit" disabled={!name || add.isPending}>
            Add the user
          </Button>
        </div>
      </form>
    </Dialog>
  )
}

function EditUser({ user, onClose }: { user: User; onClose: () => void }) {
  const path = { user: user.name }
  const [address, setAddress] = useState('')
  const [as, setAs] = useState<Grant['role']>('viewer')
  const setRole = useChange((role: string) => api.PATCH('/api/v1/users/{user}', { params: { path }, body: { role } }))
  const grant = useChange(
    () => api.PUT('/api/v1/users/{user}/grants', { params: { path }, body: { address, role: as } }),
    () => setAddress(''),
  )
  const revoke = useChange((at: string) => api.DELETE('/api/v1/users/{user}/grants', { params: { path, query: { address: at } } }))
  return (
    <Dialog open onClose={onClose} title={user.name} description="Changes take effect at once, for open pages and for running jobs.">
      <div className="grid gap-4">
        <SelectField label="Role" value={user.role} onChange={(role) => setRole.mutate(role)} choices={roles} />
        {user.role !== 'owner' && (
          <>
            <section aria-label="Grants">
              <h2 className="text-small text-soft">Grants</h2>
              {user.grants.length === 0 && <p className="text-ochre">None yet: {user.name} sees nothing.</p>}
              <ul>
                {user.grants.map((one) => (
                  <li key={one.address} className="flex flex-wrap items-baseline justify-between gap-x-3 border-b border-line py-1">
                    <span>
                      <span className="font-mono text-small break-all">{one.address}</span> <span className="text-small text-soft">as {one.role}</span>
                    </span>
                    <Button look="quiet" aria-label={`Revoke ${one.address}`} onClick={() => revoke.mutate(one.address)}>
                      Revoke
                    </Button>
                  </li>
                ))}
              </ul>
            </section>
            <form
              aria-label="New grant"
              className="grid gap-3"
              onSubmit={(event) => {
                event.preventDefault()
                grant.mutate(undefined)
              }}
            >
              <TargetField label="Account or folder" value={address} onChange={setAddress} />
              <SelectField
                label="As"
                value={as}
                onChange={(value) => setAs(value as Grant['role'])}
                choices={roles.filter((one) => one.value === 'viewer' || user.role === one.value)}
              />
              <div>
                <Button look="first" type="submit" disabled={!address || grant.isPending}>
                  Grant
                </Button>
              </div>
            </form>
          </>
        )}
        {[setRole.error, grant.error, revoke.error].map((error, i) => error && <Failed key={i} error={error} />)}
      </div>
    </Dialog>
  )
}

function RemoveUser({ name, onClose }: { name: string; onClose: () => void }) {
  const remove = useChange(() => api.DELETE('/api/v1/users/{user}', { params: { path: { user: name } } }), onClose)
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Remove ${name}?`}
      description="The user’s sessions, tokens and grants are removed too. Jobs of the user stay, and their runs are held until somebody else changes the jobs."
    >
      {remove.isError && <Failed error={remove.error} />}
      <Button look="danger" disabled={remove.isPending} onClick={() => remove.mutate(undefined)}>
        Remove {name}
      </Button>
    </Dialog>
  )
}
