import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useEffect, useState } from 'react'
import { api, type Consent, type Consenting, data } from '../api/client'
import { Button } from '../ui/Button'
import { Field, SelectField } from '../ui/Field'
import { when } from '../ui/format'
import { Failed } from '../ui/Banner'

type Way = 'page' | 'device' | 'paste'

const ways: Record<Way, string> = {
  page: 'in this browser',
  device: 'on another device, with a short code',
  paste: 'on any device, by pasting back a code',
}

/** A consent that is pending, asked for until it has ended. */
export const useConsent = (id: string | undefined) =>
  useQuery({
    queryKey: ['consent', id],
    queryFn: () => data(api.GET('/api/v1/consents/{id}', { params: { path: { id: id! } } })),
    enabled: id !== undefined,
    staleTime: 0,
    refetchInterval: (query) => (query.state.data && query.state.data.state !== 'waiting' && query.state.data.state !== 'agreed' ? false : 1000),
  })

/** The ways in which a person can agree to what the options say; none where there is a secret to give. */
export function consentsOf(consents: readonly string[], signIn: string | undefined): Way[] {
  if (!signIn) return consents as Way[]
  if (signIn === 'code') return ['page']
  return signIn === 'device' || signIn === 'paste' ? [signIn] : []
}

type Props = {
  title: string
  offered: Way[]
  /** What consent is asked for; undefined where the form is not filled in yet. */
  asked: () => Consenting
  onEnded: (consent: Consent) => void
  onWrong?: (error: unknown) => void
  children?: ReactNode
}

/** Sends a person to the provider's page, or shows the code to type there, and waits. */
export function ConsentSteps({ title, offered, asked, onEnded, onWrong, children }: Props) {
  const client = useQueryClient()
  const [way, setWay] = useState<Way>(offered[0]!)
  const [begun, setBegun] = useState<Consent>()
  const chosen = offered.includes(way) ? way : offered[0]!
  const begin = useMutation({
    mutationFn: () => data(api.POST('/api/v1/consents', { body: { ...asked(), way: chosen, console: true } })),
    onSuccess: (consent) => {
      if (chosen === 'page') window.location.assign(consent.url)
      else setBegun(consent)
    },
    onError: onWrong,
  })
  const consent = useConsent(begun?.id)
  const state = consent.data?.state
  useEffect(() => {
    if (consent.data && (state === 'linked' || state === 'granted')) {
      for (const key of ['accounts', 'space', 'folder']) void client.invalidateQueries({ queryKey: [key] })
      onEnded(consent.data)
    }
    // Once, when it has ended.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [state])
  if (begun) {
    return <Waiting title={title} consent={consent.data ?? begun} error={consent.error} onAgain={() => setBegun(undefined)} />
  }
  return (
    <div className="grid gap-4">
      {offered.length > 1 && (
        <SelectField label={`Give consent at ${title}`} value={chosen} onChange={(value) => setWay(value as Way)} choices={offered.map((one) => ({ value: one, title: ways[one] }))} />
      )}
      {begin.isError && <Failed error={begin.error} />}
      <div className="flex gap-2">
        <Button look="first" type="submit" disabled={begin.isPending} onClick={(event) => {
          const form = event.currentTarget.closest('form')
          if (form && !form.reportValidity()) return
          event.preventDefault()
          begin.mutate()
        }}>
          {begin.isPending ? 'One moment…' : `Go to ${title}`}
        </Button>
        {children}
      </div>
    </div>
  )
}

function Waiting({ title, consent, error, onAgain }: { title: string; consent: Consent; error: unknown; onAgain: () => void }) {
  const [text, setText] = useState('')
  const client = useQueryClient()
  const paste = useMutation({
    mutationFn: () => data(api.POST('/api/v1/consents/{id}/answer', { params: { path: { id: consent.id } }, body: { text } })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['consent', consent.id] }),
  })
  if (consent.state === 'failed' || error) {
    return (
      <div className="grid justify-items-start gap-4">
        {error ? <Failed error={error} /> : <Why consent={consent} />}
        <Button onClick={onAgain}>Begin again</Button>
      </div>
    )
  }
  return (
    <div className="grid gap-4" role="status">
      <p>
        On any device, open{' '}
        <a href={consent.url} target="_blank" rel="noreferrer" className="break-all text-plumage underline">
          {consent.way === 'device' ? consent.url : `the page of ${title}`}
        </a>
        {consent.way === 'device' ? ' and enter the code' : ', give your consent, and paste the code or the address of the last page.'}
      </p>
      {consent.way === 'device' && <p className="font-mono text-title" aria-label="Code">{consent.user_code}</p>}
      {consent.way === 'paste' && (
        <div className="grid gap-2">
          <Field label="Code or address" value={text} onChange={(event) => setText(event.target.value)} mono />
          {paste.isError && <Failed error={paste.error} />}
          <div>
            <Button look="first" type="button" disabled={paste.isPending || text === ''} onClick={() => paste.mutate()}>
              Give it
            </Button>
          </div>
        </div>
      )}
      <p className="text-soft">Waiting for your consent. The code expires at {when(consent.expires)}.</p>
    </div>
  )
}

/** Why a consent came to nothing, and what to do. */
export function Why({ consent }: { consent: Consent }) {
  return (
    <div role="alert" className="border-l-2 border-brick pl-4">
      <p className="text-brick">{consent.why}</p>
      {consent.remedy && <p>{consent.remedy}</p>}
    </div>
  )
}
