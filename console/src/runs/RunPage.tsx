import { useMutation } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, useParams } from 'react-router'
import { api, data, type Run } from '../api/client'
import { filesLink } from '../files/address'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { capital, bytes, count, duration, plain, some, when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { stepName } from '../jobs/Migration'
import { Held, Bandwidth } from './Held'
import { Course } from './Course'
import { Decisions } from './Decisions'
import { ItemList } from './ItemList'
import { Papers } from './Papers'
import { useCauses, useRun } from './queries'
import { percentOf } from './run'

export function RunPage() {
  const { id = '' } = useParams()
  const run = useRun(id)
  useEffect(() => {
    document.title = `Run ${id} · Deft Heron`
  }, [id])
  if (run.isError) {
    return (
      <div className="py-6">
        <Failed error={run.error} />
      </div>
    )
  }
  if (!run.data) return <p className="py-6 text-soft">Looking…</p>
  return (
    <div className="relative flex min-h-0 flex-1 flex-col overflow-auto pb-4">
      <Head run={run.data} />
      <Decisions run={run.data} />
      {!run.data.ended && run.data.needs !== 'approval' && run.data.needs !== 'decision' && <Moving run={run.data} />}
      <Figures run={run.data} />
      {run.data.started && <Course run={run.data} />}
      <Causes run={run.data} />
      <ItemList run={run.data} />
    </div>
  )
}

const sentences: Record<string, string> = {
  queued: 'Waiting for its turn, or for an account that cannot be reached.',
  running: 'The run continues if you close this page.',
  paused: 'Paused until you resume it, also over restarts. Transferred files stay.',
  held: 'Waiting until the account works again; then it continues automatically. Transferred files stay.',
  done: 'All items were transferred and verified.',
  partial: 'Some items failed and are not at the target. The list shows their causes and remedies.',
  failed: 'The run failed.',
  cancelled: 'Cancelled. Transferred files stay.',
}

function sentenceOf(run: Run): string | undefined {
  if (run.state === 'running' && run.watching) return 'Everything is up to date. Waiting for changes; the run continues if you close this page.'
  if (run.state === 'paused' && run.cause === 'outside-hours') return 'Outside the hours of the job. The run continues when they begin.'
  if (run.needs === 'approval') return 'The run is above a safety limit. Nothing has been changed.'
  if (run.step === 'survey' && run.state === 'done') return 'The survey is done. Its report is the page to hand over.'
  if (run.step === 'clear' && run.state === 'done') return 'Exactly the files that were verified at the target were deleted at the source.'
  if (run.step === 'clear' && run.cause === 'source-stays') return 'The files that were verified at the target were deleted at the source. Skipped items stay there.'
  if (run.step === 'bring-back' && run.state === 'done') return 'The files are back at the source, verified.'
  if (run.state === 'done' && (run.type === 'mirror' || run.type === 'two-way')) return 'Both sides are in sync. Transferred files were verified.'
  if (run.clears && run.state === 'done') return 'All items were transferred, verified and deleted at the source.'
  if (run.needs === 'decision') return 'Everything else is done. Decide which files to keep: both sides had changed.'
  if (run.needs === 'space') return 'Waiting until the target has space; then it continues automatically. Transferred files stay.'
  if (run.cause === 'source-stays') return 'All items were transferred and verified, but some could not be deleted at the source.'
  return sentences[run.state]
}

function Head({ run }: { run: Run }) {
  return (
    <div className="flex flex-wrap items-start gap-x-6 gap-y-2 py-3">
      <div className="min-w-0 flex-1 basis-80">
        <h1 className="flex flex-wrap items-baseline gap-3 text-title font-semibold">
          {run.step ? `${stepName(run.step)}, run ${run.id}` : `Run ${run.id}`}
          <span className="text-large font-normal">
            <State state={run.state} />
          </span>
        </h1>
        <ul className="font-mono text-small">
          {run.routes.map((route) => (
            <li key={route.to} className="wrap-anywhere">
              <Link to={filesLink(route.from)} className="text-plumage hover:underline">{plain(route.from)}</Link>
              {run.type === 'two-way' ? ' ↔ ' : ' → '}
              <Link to={filesLink(route.to)} className="text-plumage hover:underline">{plain(route.to)}</Link>
            </li>
          ))}
          {(run.more_routes ?? 0) > 0 && <li className="text-soft">and {count(run.more_routes!)} more</li>}
        </ul>
        <p className="mt-1">{sentenceOf(run)}</p>
        {run.started_by && run.started_by !== 'by hand' && <p className="text-small text-soft">Started {/^(the|a) /.test(run.started_by) ? `by ${run.started_by}` : run.started_by}.</p>}
        {run.step && (
          <p className={run.waits ? 'text-ochre' : undefined}>
            {run.waits}{' '}
            <Link to={`/jobs/${run.job}`} className="text-plumage hover:underline">
              The migration {run.job}
            </Link>
          </p>
        )}
        {run.why && run.needs !== 'decision' && run.state !== 'done' && (run.state !== 'partial' || run.cause) && (
          <p className={run.ended ? 'text-brick' : 'text-ochre'}>
            {capital(run.why)}. {run.remedy}
          </p>
        )}
      </div>
      <Controls run={run} />
    </div>
  )
}

/** The page of a new job with the routes of a single copy. */
function newJobLink(run: Run): string {
  const query = new URLSearchParams()
  for (const route of run.routes) {
    query.append('from', route.from)
    query.append('to', route.to)
  }
  return `/jobs/new?${query}`
}

/** What can be done with a run in its state. */
function Controls({ run }: { run: Run }) {
  const act = useMutation({
    mutationFn: async (verb: 'pause' | 'resume' | 'retry'): Promise<void> => {
      const params = { params: { path: { id: run.id } } }
      if (verb === 'pause') await api.POST('/api/v1/runs/{id}/pause', params)
      else if (verb === 'resume') await api.POST('/api/v1/runs/{id}/resume', params)
      else await api.POST('/api/v1/runs/{id}/retry', params)
    },
  })
  return (
    <div className="flex flex-wrap items-start justify-end gap-2 pt-1">
      {run.ended && <Papers run={run.id} what="report" />}
      {run.ended && run.type === '' && !run.clears && !run.more_routes && (
        <Link to={newJobLink(run)} className="inline-flex h-8 items-center rounded-md border border-line px-3 hover:border-plumage">
          Make it a job
        </Link>
      )}
      {run.step === 'final-pass' && (run.state === 'done' || run.state === 'partial') && <Papers run={run.id} what="certificate" />}
      {run.actions.includes('retry') && (
        <Button look="first" disabled={act.isPending} onClick={() => act.mutate('retry')}>
          {run.state === 'cancelled' ? 'Continue' : 'Retry failed items'}
        </Button>
      )}
      {run.state === 'held' && <Held run={run} />}
      {!run.ended && <Bandwidth run={run} />}
      {run.state !== 'held' && run.actions.includes('resume') && (
        <Button look="first" disabled={act.isPending} onClick={() => act.mutate('resume')}>
          Resume
        </Button>
      )}
      {run.actions.includes('pause') && (
        <Button disabled={act.isPending} onClick={() => act.mutate('pause')}>
          Pause
        </Button>
      )}
      {run.actions.includes('cancel') && <Cancel run={run} />}
      {act.isError && <Failed error={act.error} />}
    </div>
  )
}

function Cancel({ run }: { run: Run }) {
  const [asking, setAsking] = useState(false)
  const cancel = useMutation({
    mutationFn: () => data(api.POST('/api/v1/runs/{id}/cancel', { params: { path: { id: run.id } } })),
    onSettled: () => setAsking(false),
  })
  return (
    <div>
      <Button onClick={() => setAsking(true)} disabled={cancel.isSuccess}>
        {cancel.isSuccess ? 'Cancelling…' : 'Cancel run'}
      </Button>
      {cancel.isError && <Failed error={cancel.error} />}
      <Dialog
        open={asking}
        onClose={() => setAsking(false)}
        title="Cancel this run?"
        description={`Transferred files (${some(run.items.done, 'item')}, ${bytes(run.bytes.transferred)}) stay at the target. ${some(run.items.waiting, 'item')} will not be transferred. Another run transfers only those.`}
      >
        <div className="flex justify-end gap-2">
          <Button onClick={() => setAsking(false)}>Go on</Button>
          <Button look="danger" onClick={() => cancel.mutate()}>
            Cancel the run
          </Button>
        </div>
      </Dialog>
    </div>
  )
}

function Moving({ run }: { run: Run }) {
  const ended = run.items.done + run.items.skipped + run.items.failed
  const all = ended + run.items.waiting
  const percent = percentOf(run)
  return (
    <section aria-label="Progress" className="border-t border-line py-3">
      <div className="flex items-baseline justify-between gap-4">
        <span className="text-large">{percent} %</span>
        <span className="text-soft">
          {run.state === 'held' || run.watching ? '' : !run.planned ? 'still listing' : run.now && run.now.left >= 0 ? `${duration(run.now.left)} left` : 'time left unknown'}
        </span>
      </div>
      <div role="progressbar" aria-label="Bytes moved" aria-valuenow={percent} aria-valuemin={0} aria-valuemax={100} className="mt-1 h-1.5 bg-line">
        <div className="h-full bg-plumage" style={{ width: `${percent}%` }} />
      </div>
      <p className="mt-2">
        {count(ended)} of {some(all, 'item')}, {bytes(run.bytes.transferred)} of {bytes(run.bytes.total)}
        {run.now && `, ${bytes(Math.round(run.now.rate))}/s now, ${bytes(Math.round(run.average))}/s on average`}
      </p>
      {run.now?.slowed?.map((slowed) => (
        <p key={slowed.account} className="text-soft">
          /{plain(slowed.account)} allows {slowed.rate.toFixed(1)} requests a second; the run keeps to that.
        </p>
      ))}
      {run.now?.away?.map((away) => (
        <p key={away.account + away.since} className="mt-2 border-l-4 border-ochre pl-3">
          Waits for /{plain(away.account)} since {when(away.since)}: {plain(away.why)}.{' '}
          {away.until ? `The run continues when the account can be reached, and gives up at ${when(away.until)}.` : 'The other routes continue; then the run is held.'}
        </p>
      ))}
      <h2 className="mt-2 text-small text-soft">In flight</h2>
      <ul className="min-h-24 font-mono text-small">
        {run.now?.flying.map((flying) => (
          <li key={flying.address} className="flex justify-between gap-4 py-px">
            <span className="wrap-anywhere">{plain(flying.address)}</span>
            <span className="whitespace-nowrap text-soft">
              {bytes(flying.transferred)} of {bytes(flying.size)}
            </span>
          </li>
        ))}
        {!run.now?.flying.length && <li className="text-soft">none</li>}
      </ul>
    </section>
  )
}

function Figures({ run }: { run: Run }) {
  const seconds = run.started && run.ended ? (Date.parse(run.ended) - Date.parse(run.started)) / 1000 : 0
  const figures: [string, string, string?][] = [
    ['Transferred and verified', some(run.items.done - run.items.removed, 'item'), 'text-reed'],
    ...(run.items.removed ? ([['Removed', some(run.items.removed, 'item'), 'text-brick']] as [string, string, string][]) : []),
    ['Failed', some(run.items.failed, 'item'), run.items.failed ? 'text-brick' : undefined],
    ['Skipped', some(run.items.skipped, 'item')],
    ['Up to date', some(run.items.up_to_date, 'item')],
    ['Transferred', bytes(run.bytes.transferred)],
    ['Started', when(run.started)],
  ]
  if (run.excluded.items || run.folders_excluded)
    figures.push(['Excluded', [run.folders_excluded && some(run.folders_excluded, 'folder'), run.excluded.items && some(run.excluded.items, 'file')].filter(Boolean).join(', ')])
  if (run.inside.items) figures.push(['Copied inside, not sent', bytes(run.inside.bytes)])
  if (run.bandwidth) figures.push(['Bandwidth', [run.bandwidth.up && `${run.bandwidth.up} up`, run.bandwidth.down && `${run.bandwidth.down} down`].filter(Boolean).join(', ') || 'by hours'])
  if (run.ended) figures.push(['Took', duration(seconds)])
  if (seconds > 0 && run.bytes.transferred > 0) figures.push(['On average', `${bytes(run.bytes.transferred / seconds)}/s`])
  if (run.interruptions) figures.push(['Interrupted', some(run.interruptions, 'time')])
  return (
    <dl className="flex flex-wrap gap-x-8 gap-y-2 border-t border-line py-3">
      {figures.map(([term, text, colour]) => (
        <div key={term}>
          <dt className="text-small text-soft">{term}</dt>
          <dd className={colour}>{text}</dd>
        </div>
      ))}
    </dl>
  )
}

function Causes({ run }: { run: Run }) {
  const causes = (useCauses(run.id, !run.ended).data ?? []).filter((cause) => cause.state !== 'waiting')
  if (causes.length === 0) return null
  return (
    <section aria-label="Causes" className="border-t border-line py-3">
      {causes.map((cause) => (
        <div key={cause.state + cause.cause} className="grid grid-cols-[92px_minmax(0,1fr)_90px] gap-x-3 py-0.5">
          <span>
            <State state={cause.state} />
          </span>
          <span>
            <span className={`font-mono text-small ${cause.state === 'done' ? 'text-dusk' : 'text-soft'}`}>{cause.cause}</span> {cause.meaning}{' '}
            <span className="text-soft">{cause.remedy}</span>
          </span>
          <span className="text-right whitespace-nowrap">{some(cause.items, 'item')}</span>
        </div>
      ))}
    </section>
  )
}
