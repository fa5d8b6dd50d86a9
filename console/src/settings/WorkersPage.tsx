import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import { Empty, Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { Field } from '../ui/Field'
import { bytes, count, plain, when } from '../ui/format'
import { Menu, MenuItem } from '../ui/Menu'
import { Skeleton } from '../ui/Skeleton'
import { State } from '../ui/State'
import { AssignManagers, GrantAccounts } from './WorkerChoices'
import { useChange, useSharing, useWorkers } from './workers'

type Worker = components['schemas']['Worker']
type Code = components['schemas']['WorkerCode']

/** The machines that reach places for the service. */
export function WorkersPage() {
  const who = useQuery({ queryKey: ['whoami'], queryFn: () => data(api.GET('/api/v1/whoami')), staleTime: Infinity })
  const owner = who.data?.role === 'owner'
  const workers = useWorkers()
  const [adding, setAdding] = useState(false)
  const [code, setCode] = useState<Code>()
  const [renamed, setRenamed] = useState<string>()
  const [removed, setRemoved] = useState<Worker>()
  const [granted, setGranted] = useState<Worker>()
  const [assigned, setAssigned] = useState<Worker>()
  const drain = useChange((worker: Worker) =>
    data(api.PATCH('/api/v1/workers/{name}', { params: { path: { name: worker.name } }, body: { draining: !stands(worker) } })),
  )
  const recode = useChange((name: string) => data(api.POST('/api/v1/workers/{name}/code', { params: { path: { name } } })), setCode)
  return (
    <>
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-title font-semibold">Workers</h1>
        {owner && (
          <Button look="first" onClick={() => setAdding(true)}>
            Create a worker
          </Button>
        )}
      </div>
      <p className="max-w-3xl text-soft">
        A worker is a second machine. It reaches places that this service does not, such as a server on the premises, and copies between accounts that it was granted, beside the service. It only dials out.
      </p>
      {[workers, drain, recode].map((one, i) => one.isError && <Failed key={i} error={one.error} />)}
      {workers.isPending && <Skeleton rows={3} />}
      {workers.data?.length === 0 && <Empty>There is no worker yet.</Empty>}
      {workers.data && workers.data.length > 0 && <Sharing owner={owner} />}
      {workers.data && workers.data.length > 0 && (
        <table className="mt-2 w-full max-w-6xl">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-4 font-normal">Worker</th>
              <th className="py-1 pr-4 font-normal">State</th>
              <th className="hidden py-1 pr-4 font-normal sm:table-cell">Accounts</th>
              <th className="hidden py-1 pr-4 font-normal md:table-cell">Machine</th>
              <th className="hidden py-1 pr-4 text-right font-normal md:table-cell">Requests</th>
              <th className="hidden py-1 pr-4 text-right font-normal lg:table-cell">Copying</th>
              <th className="py-1 font-normal">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {workers.data.map((worker) => (
              <tr key={worker.name} className="border-b border-line align-baseline">
                <td className="py-1 pr-4">
                  <span className="font-semibold wrap-anywhere">{worker.name}</span>
                  <span className="block text-small text-soft wrap-anywhere">site {worker.site}</span>
                  {worker.managers.length > 0 && <span className="block max-w-xs text-small text-soft wrap-anywhere">managed by {worker.managers.join(', ')}</span>}
                </td>
                <td className="py-1 pr-4">
                  <State state={worker.state} />
                  <span className="block text-small text-soft">
                    {worker.state === 'waiting' && worker.code_ends ? `code good until ${when(worker.code_ends)}` : worker.seen ? `seen ${when(worker.seen)}` : 'not seen yet'}
                  </span>
                  {worker.remedy && <span className="block max-w-sm text-small">{worker.remedy.replaceAll('NAME', worker.name)}</span>}
                </td>
                <td className="hidden py-1 pr-4 sm:table-cell">
                  {worker.accounts.length === 0 && <span className="text-soft">none</span>}
                  {worker.accounts.map((account) => (
                    <Link key={account} to={`/accounts/${account}`} className="mr-2 font-mono text-small text-plumage hover:underline">
                      /{account}
                    </Link>
                  ))}
                  {worker.granted.length > 0 && (
                    <span className="block text-small">
                      <span className="text-soft">granted </span>
                      {worker.granted.map((account) => (
                        <Link key={account} to={`/accounts/${account}`} className="mr-2 font-mono text-plumage hover:underline">
                          /{account}
                        </Link>
                      ))}
                    </span>
                  )}
                </td>
                <td className="hidden py-1 pr-4 text-small md:table-cell">
                  <Machine worker={worker} />
                </td>
                <td className="hidden py-1 pr-4 text-right md:table-cell">{count(worker.requests)}</td>
                <td className="hidden py-1 pr-4 text-right whitespace-nowrap lg:table-cell">
                  {count(worker.items)}
                  {worker.parallel > 0 && <span className="block text-small text-soft">{count(worker.parallel)} at once</span>}
                </td>
                <td className="py-1 text-right whitespace-nowrap">
                  {worker.manage && (
                    <Menu label={<span aria-label={`Actions for ${worker.name}`}>Change</span>}>
                      {owner && <MenuItem onSelect={() => setGranted(worker)}>Grant accounts</MenuItem>}
                      {owner && <MenuItem onSelect={() => setAssigned(worker)}>Assign managers</MenuItem>}
                      <MenuItem onSelect={() => setRenamed(worker.name)}>Rename</MenuItem>
                      <MenuItem onSelect={() => drain.mutate(worker)} disabled={!worker.joined}>
                        {stands(worker) ? 'Take requests again' : 'Take nothing new'}
                      </MenuItem>
                      <MenuItem onSelect={() => recode.mutate(worker.name)}>Create another code</MenuItem>
                      {owner && <MenuItem onSelect={() => setRemoved(worker)}>Remove</MenuItem>}
                    </Menu>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {adding && <CreateWorker onClose={() => setAdding(false)} onCreated={setCode} />}
      {code && <Joining code={code} onClose={() => setCode(undefined)} />}
      {renamed && <RenameWorker name={renamed} onClose={() => setRenamed(undefined)} />}
      {granted && <GrantAccounts worker={granted} onClose={() => setGranted(undefined)} />}
      {assigned && <AssignManagers worker={assigned} onClose={() => setAssigned(undefined)} />}
      {removed && <RemoveWorker worker={removed} onClose={() => setRemoved(undefined)} />}
    </>
  )
}

/** Whether a worker takes nothing new. */
const stands = (worker: Worker) => worker.state === 'draining' || worker.state === 'untrusted'

/** Who copies what workers can. */
function Sharing({ owner }: { owner: boolean }) {
  const sharing = useSharing()
  const set = useChange((only: boolean) => data(api.PUT('/api/v1/worker-sharing', { body: { only_workers: only } })))
  if (!sharing.data) return null
  const only = sharing.data.only_workers
  return (
    <div className="my-2 flex flex-wrap items-center gap-3">
      <p>{only ? 'The service leaves to workers what they can copy, while there are any.' : 'The service copies beside its workers.'}</p>
      {owner && (
        <Button disabled={set.isPending} onClick={() => set.mutate(!only)}>
          {only ? 'Copy here too' : 'Leave copying to workers'}
        </Button>
      )}
      {set.isError && <Failed error={set.error} />}
    </div>
  )
}

function Machine({ worker }: { worker: Worker }) {
  if (!worker.joined) return <span className="text-soft">has not joined</span>
  return (
    <>
      {worker.system}, version {worker.version}
      {worker.from && <span className="block text-soft">from {worker.from}</span>}
      {worker.processors > 0 && (
        <span className="block text-soft">
          load {worker.load.toFixed(1)} of {worker.processors}, {bytes(worker.memory)} in use
        </span>
      )}
    </>
  )
}

function CreateWorker({ onClose, onCreated }: { onClose: () => void; onCreated: (code: Code) => void }) {
  const [name, setName] = useState('')
  const [site, setSite] = useState('')
  const create = useChange(
    () => data(api.POST('/api/v1/workers', { body: { name, site: site || undefined } })),
    (code) => {
      onClose()
      onCreated(code)
    },
  )
  return (
    <Dialog open onClose={onClose} title="Create a worker" description="Its machine joins with a code, which is good for 15 minutes.">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault()
          create.mutate(undefined)
        }}
      >
        <Field label="Name" help="Lower-case letters, digits and hyphens, such as gauge-house." value={name} onChange={(event) => setName(event.target.value)} pattern="[a-z0-9][a-z0-9\-]*" required mono />
        <Field label="Site (optional)" help="The network that the machine is in. Workers at one site share its accounts." value={site} onChange={(event) => setSite(event.target.value)} pattern="[a-z0-9][a-z0-9\-]*" mono />
        {create.isError && <Failed error={create.error} />}
        <div>
          <Button look="first" type="submit" disabled={!name || create.isPending}>
            Create the worker
          </Button>
        </div>
      </form>
    </Dialog>
  )
}

/** How a machine joins as a worker. */
function Joining({ code, onClose }: { code: Code; onClose: () => void }) {
  const commands = `heron worker join ${code.url} ${code.code}\nheron worker`
  return (
    <Dialog open onClose={onClose} title={`Join ${code.worker.name}`} description={`Run this on its machine before ${when(code.ends)}. The code is good once.`}>
      <pre aria-label="Commands" className="rounded-md border border-line bg-ground px-3 py-2 font-mono text-small break-all whitespace-pre-wrap">
        {commands}
      </pre>
      <p className="mt-2 text-small text-soft">To show folders of that machine too, start it with heron worker --folders DIR.</p>
      <div className="mt-3 flex gap-3">
        <Button onClick={() => void navigator.clipboard.writeText(commands)}>Copy the commands</Button>
        <Button look="first" onClick={onClose}>
          Done
        </Button>
      </div>
    </Dialog>
  )
}

function RenameWorker({ name, onClose }: { name: string; onClose: () => void }) {
  const [to, setTo] = useState(name)
  const rename = useChange(() => data(api.PATCH('/api/v1/workers/{name}', { params: { path: { name } }, body: { name: to } })), onClose)
  return (
    <Dialog open onClose={onClose} title={`Rename ${name}`} description="Its accounts and its site stay.">
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault()
          rename.mutate(undefined)
        }}
      >
        <Field label="Name" value={to} onChange={(event) => setTo(event.target.value)} pattern="[a-z0-9][a-z0-9\-]*" required mono />
        {rename.isError && <Failed error={rename.error} />}
        <div>
          <Button look="first" type="submit" disabled={to === name || rename.isPending}>
            Rename
          </Button>
        </div>
      </form>
    </Dialog>
  )
}

function RemoveWorker({ worker, onClose }: { worker: Worker; onClose: () => void }) {
  const remove = useChange(() => data(api.DELETE('/api/v1/workers/{name}', { params: { path: { name: worker.name } } })))
  const secrets = remove.data?.secrets ?? []
  return (
    <Dialog
      open
      onClose={onClose}
      title={remove.data ? `${plain(worker.name)} is removed` : `Remove ${worker.name}?`}
      description={remove.data ? '' : 'Its keys end at once. What it is doing is given up, and done by another worker of the site if there is one.'}
    >
      {remove.isError && <Failed error={remove.error} />}
      {remove.data ? (
        <>
          {secrets.length > 0 ? (
            <p>
              It may have had the secrets of {secrets.map((one) => `/${one}`).join(', ')}. If its machine is not in your hands, replace them at the provider, then reauthorize these accounts.
            </p>
          ) : (
            <p className="text-soft">It had no secrets.</p>
          )}
          <Button look="first" className="mt-3" onClick={onClose}>
            Done
          </Button>
        </>
      ) : (
        <Button look="danger" disabled={remove.isPending} onClick={() => remove.mutate(undefined)}>
          Remove {worker.name}
        </Button>
      )}
    </Dialog>
  )
}
