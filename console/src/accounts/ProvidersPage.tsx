import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link } from 'react-router'
import { api, data, type Provider } from '../api/client'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { Field } from '../ui/Field'
import { Failed } from '../ui/Banner'
import { DefinitionForm } from './DefinitionForm'
import { useProviders } from './queries'

/** The kinds of places that accounts can be at, and the definitions of those that are described. */
export function ProvidersPage() {
  const providers = useProviders()
  const [adding, setAdding] = useState(false)
  useEffect(() => {
    document.title = 'Providers · Deft Heron'
  }, [])
  return (
    <div className="relative min-h-0 flex-1 overflow-auto pb-8">
      <div className="flex items-center gap-4 py-3">
        <h1 className="flex-1 text-title font-semibold">Providers</h1>
        <Link to="/accounts" className="text-plumage hover:underline">
          Accounts
        </Link>
        {!adding && (
          <Button look="first" onClick={() => setAdding(true)}>
            Add a definition
          </Button>
        )}
      </div>
      {adding && <DefinitionForm onClose={() => setAdding(false)} />}
      {providers.isError && <Failed error={providers.error} />}
      {providers.data && (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 font-normal">Name</th>
              <th className="py-1 font-normal">Description</th>
              <th className="hidden py-1 font-normal sm:table-cell">Linked by</th>
              <th className="py-1 font-normal">
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {providers.data.map((provider) => (
              <ProviderRow key={provider.name} provider={provider} />
            ))}
          </tbody>
        </table>
      )}
    </div>
  )
}

function linkedBy(provider: Provider) {
  if (provider.consents.length > 0) return `consent (${provider.consents.join(', ')})`
  return provider.options.find((option) => option.secret)?.title.toLowerCase() ?? 'options alone'
}

function ProviderRow({ provider }: { provider: Provider }) {
  const [open, setOpen] = useState<'definition' | 'registration' | 'removing'>()
  return (
    <tr className="h-8 border-b border-line align-baseline hover:bg-panel">
      <td className="py-1 pr-4 font-mono text-small whitespace-nowrap">{provider.name}</td>
      <td className="pr-4">
        {provider.title}
        <span className="ml-2 text-small text-soft">{!provider.declared ? 'protocol' : provider.shipped ? 'definition, shipped' : 'definition, added'}</span>
      </td>
      <td className="hidden pr-4 sm:table-cell">
        {linkedBy(provider)}
        {provider.registered && <span className="ml-2 text-small text-soft">own registration {provider.registered}</span>}
      </td>
      <td className="text-right sm:whitespace-nowrap">
        {provider.declared && (
          <Button look="quiet" onClick={() => setOpen('definition')} aria-label={`Definition of ${provider.name}`}>
            Definition
          </Button>
        )}
        {provider.consents.length > 0 && (
          <Button look="quiet" onClick={() => setOpen('registration')} aria-label={`App registration for ${provider.name}`}>
            App registration
          </Button>
        )}
        {provider.declared && !provider.shipped && (
          <Button look="quiet" onClick={() => setOpen('removing')} aria-label={`Remove the definition ${provider.name}`}>
            Remove
          </Button>
        )}
        {open === 'definition' && <DefinitionDialog name={provider.name} onClose={() => setOpen(undefined)} />}
        {open === 'registration' && <RegistrationDialog provider={provider} onClose={() => setOpen(undefined)} />}
        {open === 'removing' && <RemoveDialog provider={provider} onClose={() => setOpen(undefined)} />}
      </td>
    </tr>
  )
}

function DefinitionDialog({ name, onClose }: { name: string; onClose: () => void }) {
  const provider = useQuery({ queryKey: ['provider', name], queryFn: () => data(api.GET('/api/v1/providers/{name}', { params: { path: { name } } })) })
  return (
    <Dialog open wide onClose={onClose} title={`The definition ${name}`} description="How the service is used. Save it as a file to start your own definition.">
      {provider.isError && <Failed error={provider.error} />}
      <pre tabIndex={0} className="max-h-[60vh] overflow-auto border-t border-line pt-2 text-left font-mono text-small whitespace-pre-wrap">
        {provider.data?.definition}
      </pre>
    </Dialog>
  )
}

function RegistrationDialog({ provider, onClose }: { provider: Provider; onClose: () => void }) {
  const client = useQueryClient()
  const [id, setId] = useState(provider.registered ?? '')
  const [secret, setSecret] = useState('')
  const save = useMutation({
    mutationFn: (client_id: string) =>
      data(api.PUT('/api/v1/providers/{name}/registration', { params: { path: { name: provider.name } }, body: { client_id, secret: client_id ? secret : '' } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['providers'] })
      onClose()
    },
  })
  return (
    <Dialog
      open
      onClose={onClose}
      title={`App registration for ${provider.title}`}
      description="Your own client id and secret, instead of the default one. Accounts that you link or reauthorize from now on use it."
    >
      <form
        className="grid gap-4 text-left"
        onSubmit={(event) => {
          event.preventDefault()
          save.mutate(id)
        }}
      >
        <Field label="Client id" value={id} onChange={(event) => setId(event.target.value)} required mono />
        <Field label="Client secret (optional)" help="It is stored encrypted and never shown." type="password" autoComplete="new-password" value={secret} onChange={(event) => setSecret(event.target.value)} />
        {save.isError && <Failed error={save.error} />}
        <div className="flex justify-end gap-2">
          {provider.registered && (
            <Button type="button" onClick={() => save.mutate('')}>
              Use the default one
            </Button>
          )}
          <Button look="first" type="submit" disabled={save.isPending}>
            Use this one
          </Button>
        </div>
      </form>
    </Dialog>
  )
}

function RemoveDialog({ provider, onClose }: { provider: Provider; onClose: () => void }) {
  const client = useQueryClient()
  const remove = useMutation({
    mutationFn: () => data(api.DELETE('/api/v1/definitions/{name}', { params: { path: { name: provider.name } } })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['providers'] })
      onClose()
    },
  })
  return (
    <Dialog open onClose={onClose} title={`Remove the definition ${provider.name}?`} description="Nothing changes at the provider. Keep the file if you want to add the definition again.">
      <div className="grid gap-4 text-left">
        {remove.isError && <Failed error={remove.error} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Keep it</Button>
          <Button look="danger" disabled={remove.isPending} onClick={() => remove.mutate()}>
            Remove {provider.name}
          </Button>
        </div>
      </div>
    </Dialog>
  )
}
