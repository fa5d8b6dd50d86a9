import { useMutation } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Link, useParams } from 'react-router'
import { api, data, type Run } from '../api/client'
import { treeLink } from '../tree/address'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { bytes, count, duration, plain, some, when } from '../ui/format'
import { Failed } from '../ui/Banner'
import { State } from '../ui/State'
import { stepName } from '../jobs/Migration'
import { Held, Bandwidth } from './Held'
import { ItemList } from './ItemList'
import { Papers } from './Papers'
import { useCauses, useRun } from './queries'

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
      {!run.data.ended && !(run.data.state === 'held' && overLimits.includes(run.data.cause ?? '')) && <Moving run={run.data} />}
      <Figures run={run.data} />
      <Causes run={run.data} />
      <ItemList run={run.data} />
    </div>
  )
}

const sentences: Record<string, string> = {
  queued: 'It waits for its turn, or for an account that cannot be reached.',
  running: 'It goes on by itself; this page may be closed.',
  paused: 'It waits until somebody resumes it, over restarts too. What has been copied stays.',
  held: 'It waits until the account is mended, and then goes on by itself. What has been copied stays.',
  done: 'Everything that was to be copied is at the target, and verified.',
  partial: 'Some items failed, and are not at the target. What to do stands with them.',
  failed: 'It could not be carried out.',
  cancelled: 'A person cancelled it. What had been copied stays.',
}

const overLimits = ['safety-limit', 'source-emptied', 'source-rolled-back']

function sentenceOf(run: Run): string | undefined {
  if (run.state === 'running' && run.watching) return 'All is in step. It waits for changes, and goes on by itself; this page may be closed.'
  if (run.state === 'paused' && run.cause === 'outside-hours') return 'It is outside the hours in which the job may run, and goes on by itself when they begin.'
  if (run.state === 'held' && overLimits.includes(run.cause ?? '')) return 'The run is above a safety limit. Nothing has been changed. Approve it or cancel it.'
  if (run.step === 'survey' && run.state === 'done') return 'The survey is taken; its page is the report.'
  if (run.step === 'clear' && run.state === 'done') return 'What was verified to be at the target is removed at the source, and nothing else.'
  if (run.step === 'clear' && run.cause === 'source-stays') return 'What was verified to be at the target is removed at the source; what is listed as skipped stays there.'
  if (run.step === 'fetch' && run.state === 'done') return 'What had been moved away is back where it was, and verified.'
  if (run.state === 'done' && (run.type === 'mirror' || run.type === 'two-way')) return 'Both sides are in step, and what was written is verified.'
  if (run.clears && run.state === 'done') return 'Everything that was to be moved is at the target, verified, and removed at the source.'
  if (run.state === 'held' && run.cause === 'conflict-undecided') return 'All else is done. It waits for a person to decide what is kept where both sides had changed.'
  if (run.state === 'held' && run.cause === 'no-space') return 'It waits until the target has space, and then goes on by itself. What has been copied stays.'
  if (run.cause === 'source-stays') return 'Everything is at the target, and verified; not all of it could be removed at the source.'
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
            <li key={route.to} className="break-all">
              <Link to={treeLink(route.from)} className="text-plumage hover:underline">{plain(route.from)}</Link>
              {run.type === 'two-way' ? ' ↔ ' : ' → '}
              <Link to={treeLink(route.to)} className="text-plumage hover:underline">{plain(route.to)}</Link>
            </li>
          ))}
        </ul>
        <p className="mt-1">{sentenceOf(run)}</p>
        {run.started_by && run.started_by !== 'by hand' && <p className="text-small text-soft">Begun {/^(the|a) /.test(run.started_by) ? `by ${run.started_by}` : run.started_by}.</p>}
        {run.step && (
          <p className={run.waits ? 'text-ochre' : undefined}>
            {run.waits?.replace(/ Start it with: .*$/, '')}{' '}
            <Link to={`/jobs/${run.job}`} className="text-plumage hover:underline">
              The migration {run.job}
            </Link>
          </p>
        )}
        {run.why && run.state !== 'done' && (run.state !== 'partial' || run.cause) && (
          <p className={run.ended ? 'text-brick' : 'text-ochre'}>
            {run.why}. {run.remedy}
          </p>
        )}
      </div>
      <Controls run={run} />
    </div>
  )
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
      {run.step === 'final-pass' && (run.state === 'done' || run.state === 'partial') && <Papers run={run.id} what="certificate" />}
      {run.ended && run.state !== 'done' && (
        <Button look="first" disabled={act.isPending} onClick={() => act.mutate('retry')}>
          {run.state === 'cancelled' ? 'Take it up again' : 'Retry what failed'}
        </Button>
      )}
      {run.state === 'held' && <Held run={run} />}
      {!run.ended && <Bandwidth run={run} />}
      {run.state === 'paused' && (
        <Button look="first" disabled={act.isPending} onClick={() => act.mutate('resume')}>
          Resume
        </Button>
      )}
      {!run.ended && run.state !== 'paused' && run.state !== 'held' && (
        <Button disabled={act.isPending} onClick={() => act.mutate('pause')}>
          Pause
        </Button>
      )}
      {!run.ended && <Cancel run={run} />}
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
        description={`What has been copied (${some(run.items.done, 'item')}, ${bytes(run.bytes.transferred)}) stays at the target. ${some(run.items.waiting, 'item')} will not be copied; copying again takes up only those.`}
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
  const part = run.bytes.total > 0 ? run.bytes.transferred / run.bytes.total : all > 0 ? ended / all : 0
  const percent = Math.min(100, Math.floor(part * 100))
  return (
    <section aria-label="Progress" className="border-t border-line py-3">
      <div className="flex items-baseline justify-between gap-4">
        <span className="text-large">{percent} %</span>
        <span className="text-soft">
          {run.state === 'held' || run.watching ? '' : !run.planned ? 'still listing' : run.now && run.now.left >= 0 ? `${duration(run.now.left)} left` : 'time left not known yet'}
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
          /{plain(slowed.account)} allows {slowed.rate.toFixed(1)} requests a second, and is asked no more often.
        </p>
      ))}
      {run.now?.away?.map((away) => (
        <p key={away.account + away.since} className="mt-2 border-l-4 border-ochre pl-3">
          Waits for /{plain(away.account)} since {when(away.since)}: {plain(away.why)}.{' '}
          {away.until ? `It goes on by itself when that is back, and gives up at ${when(away.until)}.` : 'The rest goes on; then the run is held until that is mended.'}
        </p>
      ))}
      <h2 className="mt-2 text-small text-soft">In flight</h2>
      <ul className="min-h-24 font-mono text-small">
        {run.now?.flying.map((flying) => (
          <li key={flying.address} className="flex justify-between gap-4 py-px">
            <span className="break-all">{plain(flying.address)}</span>
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
    ['Copied and verified', some(run.items.done - run.items.removed, 'item'), 'text-reed'],
    ...(run.items.removed ? ([['Removed', some(run.items.removed, 'item'), 'text-brick']] as [string, string, string][]) : []),
    ['Failed', some(run.items.failed, 'item'), run.items.failed ? 'text-brick' : undefined],
    ['Skipped', some(run.items.skipped, 'item')],
    ['In step already', some(run.items.up_to_date, 'item')],
    ['Moved', bytes(run.bytes.transferred)],
    ['Begun', when(run.started)],
  ]
  if (run.excluded.items || run.folders_excluded)
    figures.push(['Left out by the rules', [run.folders_excluded && some(run.folders_excluded, 'folder'), run.excluded.items && some(run.excluded.items, 'file')].filter(Boolean).join(', ')])
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
