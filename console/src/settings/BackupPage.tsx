import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import { TargetField } from '../files/TargetField'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Field, SelectField } from '../ui/Field'
import { bytes, count, plain, when } from '../ui/format'
import { Skeleton } from '../ui/Skeleton'

type Schedule = components['schemas']['BackupSchedule']

const key = ['backups']

/** The keys in a text, one a line. */
const keysIn = (text: string) => text.split(/\s+/).filter((one) => one !== '')

const intervals = [
  { value: '1h', title: 'every hour' },
  { value: '6h', title: 'every 6 hours' },
  { value: '12h', title: 'every 12 hours' },
  { value: '1d', title: 'every day' },
  { value: '1w', title: 'every week' },
]

/** Backups of the service's own records. */
export function BackupPage() {
  const client = useQueryClient()
  const backups = useQuery({ queryKey: key, queryFn: () => data(api.GET('/api/v1/backup-schedule')) })
  const [asked, setAsked] = useState(false)
  const end = useMutation({ mutationFn: () => data(api.DELETE('/api/v1/backup-schedule')), onSettled: () => client.invalidateQueries({ queryKey: key }) })
  if (backups.isError) return <Failed error={backups.error} />
  if (!backups.data) return <Skeleton rows={3} />
  const { schedule, restored } = backups.data
  return (
    <div className="grid max-w-3xl gap-4">
      <h1 className="text-title font-semibold">Backup</h1>
      <p className="text-soft">
        A backup holds the service’s accounts, jobs, runs and users, and the key that opens the secrets in them. It is sealed to your public key of age, and never leaves the service unsealed. Your files are not in it.
      </p>
      {restored && <p>This service was restored from a backup of {when(restored)}.</p>}
      {schedule ? (
        <section aria-label="Schedule" className="grid gap-2">
          {schedule.failed && (
            <p role="alert" className="border-l-2 border-brick py-1 pl-4 text-brick">
              The last backup failed: {plain(schedule.failed)}. It is tried again every 10 minutes.
            </p>
          )}
          {!schedule.failed && schedule.overdue && <p className="border-l-2 border-ochre py-1 pl-4 text-ochre">A backup is overdue.</p>}
          <p>
            {schedule.last ? (
              <>
                The last backup was made on {when(schedule.last)}: <span className="font-mono text-small wrap-anywhere">{plain(schedule.last_name ?? '')}</span>, {bytes(schedule.last_size ?? 0)}.
              </>
            ) : (
              'No backup was made yet.'
            )}
          </p>
          <p className="text-soft">
            Backups go to <span className="font-mono text-small wrap-anywhere">{plain(schedule.folder)}</span>. The newest {count(schedule.keep)} stay. {schedule.recipients.length === 1 ? 'One key opens them.' : `${count(schedule.recipients.length)} keys open them.`}
          </p>
          <div className="flex gap-2">
            {!asked && <Button onClick={() => setAsked(true)}>Change…</Button>}
            <Button disabled={end.isPending} onClick={() => end.mutate()}>
              End the schedule
            </Button>
          </div>
        </section>
      ) : (
        !asked && (
          <div className="grid gap-2">
            <p>No backups are made by themselves.</p>
            <Button look="first" className="justify-self-start" onClick={() => setAsked(true)}>
              Set a schedule
            </Button>
          </div>
        )
      )}
      {asked && <ScheduleForm before={schedule} onClose={() => setAsked(false)} />}
      {end.isError && <Failed error={end.error} />}
      <p className="text-small text-soft">
        By hand: <code className="font-mono">heron backup create FILE --to KEY</code>. Check a backup now and then with <code className="font-mono">heron backup check FILE</code>, and keep the identity that opens it apart from this machine.
      </p>
    </div>
  )
}

function ScheduleForm({ before, onClose }: { before?: Schedule; onClose: () => void }) {
  const client = useQueryClient()
  const [folder, setFolder] = useState(before?.folder ?? '')
  const [recipients, setRecipients] = useState(before?.recipients.join('\n') ?? '')
  const [every, setEvery] = useState('1d')
  const [keep, setKeep] = useState(String(before?.keep ?? 14))
  const set = useMutation({
    mutationFn: () => data(api.PUT('/api/v1/backup-schedule', { body: { folder, recipients: keysIn(recipients), every, keep: Number(keep) } })),
    onSuccess: onClose,
    onSettled: () => client.invalidateQueries({ queryKey: key }),
  })
  return (
    <form
      className="grid gap-3 border-t border-line pt-4"
      onSubmit={(event) => {
        event.preventDefault()
        set.mutate()
      }}
    >
      <TargetField label="Folder for the backups" value={folder} onChange={setFolder} />
      <label className="grid gap-1">
        <span className="text-small text-soft">Public keys of age, one a line</span>
        <textarea rows={2} spellCheck={false} value={recipients} onChange={(event) => setRecipients(event.target.value)} placeholder="age1…" className="w-full rounded-md border border-line bg-ground px-3 py-1 font-mono text-small placeholder:text-soft" />
        <span className="text-small text-soft">Any of them opens a backup. Make one with age-keygen, and keep its identity where this service is not.</span>
      </label>
      <div className="grid gap-3 sm:grid-cols-2">
        <SelectField label="How often" value={every} onChange={setEvery} choices={intervals} />
        <Field label="Backups that stay" type="number" min={1} max={1000} value={keep} onChange={(event) => setKeep(event.target.value)} />
      </div>
      {set.isError && <Failed error={set.error} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button look="first" type="submit" disabled={set.isPending || folder === '' || recipients.trim() === ''}>
          {set.isPending ? 'Making a backup…' : 'Save and make a backup'}
        </Button>
      </div>
    </form>
  )
}
