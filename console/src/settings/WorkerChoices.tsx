import { useState, type ReactNode } from 'react'
import { useAccounts } from '../accounts/queries'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { Dialog } from '../ui/Dialog'
import { Skeleton } from '../ui/Skeleton'
import { useUsers } from './users'
import { useChange } from './workers'

type Worker = components['schemas']['Worker']

/** Which accounts of the service a worker may have. */
export function GrantAccounts({ worker, onClose }: { worker: Worker; onClose: () => void }) {
  const accounts = useAccounts()
  return (
    <Choose
      title={`Accounts of ${worker.name}`}
      description="It gets their secrets, sealed to its key and kept in its memory alone. It shares the runs whose source and target it has."
      none="No account is reached by the service itself."
      verb="Grant"
      offered={accounts.data?.filter((account) => !account.site).map((account) => account.name)}
      before={worker.granted}
      show={(account) => `/${account}`}
      change={(grant, revoke) => changeWorker(worker.name, { grant, revoke })}
      onClose={onClose}
    >
      {(revoke) =>
        revoke.length > 0 && (
          <p className="mt-2 text-small">
            It may have had the secrets of {revoke.map((one) => `/${one}`).join(', ')}. If its machine is not in your hands, replace them at the provider, then reauthorize these accounts.
          </p>
        )
      }
    </Choose>
  )
}

/** Which operators manage a worker. */
export function AssignManagers({ worker, onClose }: { worker: Worker; onClose: () => void }) {
  const users = useUsers()
  return (
    <Choose
      title={`Managers of ${worker.name}`}
      description="They can rename, drain and resume it, and create another code for it. Owners manage all workers."
      none="There are no operators. Add them under Users."
      verb="Assign"
      offered={users.data?.filter((user) => user.role === 'operator').map((user) => user.name)}
      before={worker.managers}
      show={(user) => user}
      change={(assign, unassign) => changeWorker(worker.name, { assign, unassign })}
      onClose={onClose}
    />
  )
}

const changeWorker = (name: string, body: components['schemas']['WorkerChange']) => data(api.PATCH('/api/v1/workers/{name}', { params: { path: { name } }, body }))

type Choice = {
  title: string
  description: string
  /** What is said if nothing is offered. */
  none: string
  /** What a box does with what it stands for. */
  verb: string
  /** The names to choose from; undefined until they are known. */
  offered?: string[]
  before: string[]
  show: (name: string) => string
  change: (added: string[], taken: string[]) => Promise<unknown>
  onClose: () => void
  children?: (taken: string[]) => ReactNode
}

/** A dialog that chooses some of many names. */
function Choose({ title, description, none, verb, offered, before, show, change, onClose, children }: Choice) {
  const [chosen, setChosen] = useState(new Set(before))
  const added = (offered ?? []).filter((name) => chosen.has(name) && !before.includes(name))
  const taken = before.filter((name) => !chosen.has(name))
  const save = useChange(() => change(added, taken), onClose)
  return (
    <Dialog open onClose={onClose} title={title} description={description}>
      {!offered && <Skeleton rows={3} />}
      {offered?.length === 0 && <p className="text-soft">{none}</p>}
      <ul className="grid max-h-80 gap-2 overflow-auto">
        {offered?.map((name) => (
          <li key={name} className="flex items-center gap-2">
            <Checkbox
              label={`${verb} ${show(name)}`}
              checked={chosen.has(name)}
              onChange={(checked) => {
                const next = new Set(chosen)
                if (checked) next.add(name)
                else next.delete(name)
                setChosen(next)
              }}
            />
            <span className="font-mono wrap-anywhere">{show(name)}</span>
          </li>
        ))}
      </ul>
      {children?.(taken)}
      {save.isError && <Failed error={save.error} />}
      <Button look="first" className="mt-3" disabled={added.length + taken.length === 0 || save.isPending} onClick={() => save.mutate(undefined)}>
        Save
      </Button>
    </Dialog>
  )
}
