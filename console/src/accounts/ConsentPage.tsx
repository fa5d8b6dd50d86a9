import { useQueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'
import { Link, useParams } from 'react-router'
import { Failed } from '../ui/Banner'
import { useConsent, Why } from './Consent'
import { Linked } from './LinkPage'

/** Where a provider's page leads back to: what came of the consent. */
export function ConsentPage() {
  const { id } = useParams()
  const consent = useConsent(id)
  const client = useQueryClient()
  const state = consent.data?.state
  useEffect(() => {
    document.title = 'Link an account · Deft Heron'
  }, [])
  useEffect(() => {
    if (state === 'linked') for (const key of ['accounts', 'space', 'folder', 'runs']) void client.invalidateQueries({ queryKey: [key] })
  }, [state, client])
  if (state === 'linked' && consent.data?.account) return <Linked accounts={[consent.data.account]} />
  return (
    <div className="grid justify-items-start gap-4 py-3">
      <h1 className="text-title font-semibold">{state === 'failed' || consent.isError ? 'Not linked' : 'One moment…'}</h1>
      {consent.isError && <Failed error={consent.error} />}
      {state === 'failed' && <Why consent={consent.data!} />}
      {(state === 'waiting' || state === 'agreed') && <p className="text-soft">Checking the account…</p>}
      <Link to="/accounts" className="inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage">
        All accounts
      </Link>
    </div>
  )
}
