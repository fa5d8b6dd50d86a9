import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { Lock, LockOpen, MessageSquare, X } from 'lucide-react'
import { useId, useState } from 'react'
import { api, data, type Entry } from '../api/client'
import type { components } from '../api/schema'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Dialog } from '../ui/Dialog'
import { Field, SelectField } from '../ui/Field'
import { count, plain, some, when } from '../ui/format'
import { useMayChange } from '../ui/may'
import { useFreshen } from './dialogs'

type Noted = components['schemas']['Annotations']
type Comment = components['schemas']['Comment']

const key = (address: string) => ['annotations', address]

/** A change of what is noted, after which it and the folder are asked for again. */
function useNoting<T>(addresses: string[], change: (given: T) => Promise<unknown>, onDone?: () => void) {
  const client = useQueryClient()
  const freshen = useFreshen()
  return useMutation({
    mutationFn: change,
    onSuccess: onDone,
    onSettled: () => {
      for (const address of addresses) void client.invalidateQueries({ queryKey: key(address) })
      void client.invalidateQueries({ queryKey: ['tags'] })
      freshen()
    },
  })
}

/** The tags, the lock and the comments of one file or folder. */
export function Notes({ entry }: { entry: Entry }) {
  const noted = useQuery({ queryKey: key(entry.address), queryFn: () => data(api.GET('/api/v1/annotations', { params: { query: { address: entry.address } } })), retry: false })
  if (noted.isError) return <Failed error={noted.error} />
  if (!noted.data) return null
  return (
    <div className="grid gap-4">
      <Tags noted={noted.data} />
      <LockState noted={noted.data} />
      <Comments noted={noted.data} />
    </div>
  )
}

/** A field for a tag, which offers those that are in use. */
function TagField({ label, value, onChange }: { label: string; value: string; onChange: (tag: string) => void }) {
  const tags = useQuery({ queryKey: ['tags'], queryFn: () => data(api.GET('/api/v1/tags')) })
  const list = useId()
  return (
    <>
      <Field label={label} value={value} maxLength={200} list={list} onChange={(event) => onChange(event.target.value)} />
      <datalist id={list}>
        {tags.data?.map((one) => (
          <option key={one.tag} value={one.tag}>
            {some(one.entries, 'entry')}
          </option>
        ))}
      </datalist>
    </>
  )
}

function Tags({ noted }: { noted: Noted }) {
  const may = useMayChange()
  const [tag, setTag] = useState('')
  const change = useNoting([noted.address], (tags: { add?: string[]; remove?: string[] }) => data(api.POST('/api/v1/tags', { body: { addresses: [noted.address], ...tags } })), () => setTag(''))
  return (
    <section aria-label="Tags" className="grid gap-2">
      <h3 className="text-small text-soft">Tags</h3>
      {noted.tags.length === 0 && !may && <p className="text-small text-soft">None.</p>}
      {noted.tags.length > 0 && (
        <ul className="flex flex-wrap gap-1">
          {noted.tags.map((one) => (
            <li key={one} className="flex items-center gap-1 rounded-md border border-line bg-ground py-0.5 pr-1 pl-2 text-small">
              {plain(one)}
              {may && (
                <button type="button" aria-label={`Remove the tag ${one}`} title="Remove" disabled={change.isPending} onClick={() => change.mutate({ remove: [one] })} className="text-soft hover:text-ink">
                  <X className="size-3.5" aria-hidden="true" />
                </button>
              )}
            </li>
          ))}
        </ul>
      )}
      {may && (
        <form
          className="flex items-end gap-2"
          onSubmit={(event) => {
            event.preventDefault()
            event.stopPropagation()
            if (tag.trim()) change.mutate({ add: [tag] })
          }}
        >
          <div className="min-w-0 flex-1">
            <TagField label="Add a tag" value={tag} onChange={setTag} />
          </div>
          <Button type="submit" disabled={tag.trim() === '' || change.isPending}>
            Add
          </Button>
        </form>
      )}
      {change.isError && <Failed error={change.error} />}
    </section>
  )
}

const durations = [
  { value: '1h', title: 'an hour' },
  { value: '8h', title: '8 hours' },
  { value: '1d', title: 'a day' },
  { value: '7d', title: 'a week' },
  { value: '30d', title: '30 days' },
]

function LockState({ noted }: { noted: Noted }) {
  const may = useMayChange()
  const [asked, setAsked] = useState(false)
  const unlock = useNoting([noted.address], () => data(api.POST('/api/v1/unlocks', { body: { addresses: [noted.address] } })))
  const lock = noted.lock
  return (
    <section aria-label="Lock" className="grid gap-2">
      <h3 className="text-small text-soft">Lock</h3>
      {lock ? (
        <p className="text-small wrap-anywhere">
          <Lock className="mr-1 inline size-3.5 text-ochre" aria-hidden="true" />
          Locked by {lock.own ? 'you' : plain(lock.by)} until {when(lock.until)}
          {lock.at_server && ', at its server too'}.{lock.reason && ` ${plain(lock.reason)}`}
          {!lock.own && <span className="block text-soft">Nobody else can change it through the service, and runs skip it.</span>}
        </p>
      ) : (
        <p className="text-small text-soft">
          <LockOpen className="mr-1 inline size-3.5" aria-hidden="true" />
          Not locked.
        </p>
      )}
      {may && (
        <div className="flex gap-2">
          {lock && (
            <Button disabled={unlock.isPending} onClick={() => unlock.mutate(undefined)}>
              Unlock
            </Button>
          )}
          {(!lock || lock.own) && !asked && <Button onClick={() => setAsked(true)}>{lock ? 'Renew…' : 'Lock…'}</Button>}
        </div>
      )}
      {asked && <LockForm addresses={[noted.address]} onClose={() => setAsked(false)} />}
      {unlock.isError && <Failed error={unlock.error} />}
    </section>
  )
}

function LockForm({ addresses, onClose }: { addresses: string[]; onClose: () => void }) {
  const [within, setWithin] = useState('8h')
  const [reason, setReason] = useState('')
  const lock = useNoting(addresses, () => data(api.POST('/api/v1/locks', { body: { addresses, for: within, reason: reason.trim() || undefined } })), onClose)
  return (
    <form
      className="grid gap-2"
      onSubmit={(event) => {
        event.preventDefault()
        event.stopPropagation()
        lock.mutate(undefined)
      }}
    >
      <SelectField label="For" value={within} onChange={setWithin} choices={durations} help="Until then, nobody else changes it through the service, and runs skip it." />
      <Field label="Reason, for the others (optional)" maxLength={500} value={reason} onChange={(event) => setReason(event.target.value)} />
      {lock.isError && <Failed error={lock.error} />}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>Cancel</Button>
        <Button look="first" type="submit" disabled={lock.isPending}>
          Lock
        </Button>
      </div>
    </form>
  )
}

function Comments({ noted }: { noted: Noted }) {
  const [text, setText] = useState('')
  const add = useNoting([noted.address], () => data(api.POST('/api/v1/comments', { body: { address: noted.address, text } })), () => setText(''))
  return (
    <section aria-label="Comments" className="grid gap-2">
      <h3 className="text-small text-soft">Comments{noted.comments.length > 0 && ` (${count(noted.comments.length)})`}</h3>
      {noted.comments.length > 0 && (
        <ul className="grid max-h-80 gap-2 overflow-auto">
          {noted.comments.map((one) => (
            <CommentRow key={one.id} comment={one} address={noted.address} />
          ))}
        </ul>
      )}
      <form
        className="grid gap-2"
        onSubmit={(event) => {
          event.preventDefault()
          event.stopPropagation()
          add.mutate(undefined)
        }}
      >
        <Area label="Add a comment" value={text} onChange={setText} />
        {add.isError && <Failed error={add.error} />}
        {text.trim() !== '' && (
          <Button type="submit" className="justify-self-end" disabled={add.isPending}>
            Comment
          </Button>
        )}
      </form>
    </section>
  )
}

function Area({ label, value, onChange }: { label: string; value: string; onChange: (text: string) => void }) {
  return (
    <label className="grid gap-1">
      <span className="text-small text-soft">{label}</span>
      <textarea rows={2} maxLength={4000} value={value} onChange={(event) => onChange(event.target.value)} className="w-full rounded-md border border-line bg-ground px-3 py-1" />
    </label>
  )
}

function CommentRow({ comment, address }: { comment: Comment; address: string }) {
  const [editing, setEditing] = useState<string>()
  const id = comment.id!
  const edit = useNoting([address], (text: string) => data(api.PUT('/api/v1/comments/{id}', { params: { path: { id } }, body: { text } })), () => setEditing(undefined))
  const remove = useNoting([address], () => data(api.DELETE('/api/v1/comments/{id}', { params: { path: { id } } })))
  return (
    <li className="border-l-2 border-line pl-2 text-small">
      <p className="text-soft">
        {plain(comment.by)}, {when(comment.at)}
        {comment.edited && ', changed'}
      </p>
      {editing === undefined ? (
        <p className="wrap-anywhere whitespace-pre-wrap">{plain(comment.text)}</p>
      ) : (
        <form
          className="grid gap-1"
          onSubmit={(event) => {
            event.preventDefault()
            event.stopPropagation()
            edit.mutate(editing)
          }}
        >
          <Area label="Comment" value={editing} onChange={setEditing} />
          <div className="flex justify-end gap-2">
            <Button onClick={() => setEditing(undefined)}>Cancel</Button>
            <Button look="first" type="submit" disabled={editing.trim() === '' || edit.isPending}>
              Save
            </Button>
          </div>
        </form>
      )}
      {comment.own && editing === undefined && (
        <div className="flex gap-3">
          <button type="button" className="text-plumage hover:underline" onClick={() => setEditing(comment.text)}>
            Edit
          </button>
          <button type="button" className="text-plumage hover:underline" disabled={remove.isPending} onClick={() => remove.mutate(undefined)}>
            Delete
          </button>
        </div>
      )}
      {[edit, remove].map((one, i) => one.isError && <Failed key={i} error={one.error} />)}
    </li>
  )
}

/** What is noted about one entry, or tags and locks for several. */
export function NotesDialog({ entries, onClose }: { entries: Entry[]; onClose: () => void }) {
  const [first] = entries
  const title = entries.length === 1 ? plain(first!.name) : some(entries.length, 'entry')
  return (
    <Dialog open onClose={onClose} title={title} description="Tags, lock and comments. They are kept by the service; the files are not touched.">
      {entries.length === 1 ? <Notes entry={first!} /> : <Several addresses={entries.map((entry) => entry.address)} onClose={onClose} />}
    </Dialog>
  )
}

function Several({ addresses, onClose }: { addresses: string[]; onClose: () => void }) {
  const [tag, setTag] = useState('')
  const [asked, setAsked] = useState(false)
  const change = useNoting(addresses, (tags: { add?: string[]; remove?: string[] }) => data(api.POST('/api/v1/tags', { body: { addresses, ...tags } })), onClose)
  const unlock = useNoting(addresses, () => data(api.POST('/api/v1/unlocks', { body: { addresses } })), onClose)
  const disabled = tag.trim() === '' || change.isPending
  return (
    <div className="grid gap-4">
      <TagField label="Tag" value={tag} onChange={setTag} />
      <div className="flex flex-wrap gap-2">
        <Button disabled={disabled} onClick={() => change.mutate({ add: [tag] })}>
          Add to all
        </Button>
        <Button disabled={disabled} onClick={() => change.mutate({ remove: [tag] })}>
          Remove from all
        </Button>
        <span className="flex-1" />
        {!asked && <Button onClick={() => setAsked(true)}>Lock all…</Button>}
        <Button disabled={unlock.isPending} onClick={() => unlock.mutate(undefined)}>
          Unlock all
        </Button>
      </div>
      {asked && <LockForm addresses={addresses} onClose={onClose} />}
      {[change, unlock].map((one, i) => one.isError && <Failed key={i} error={one.error} />)}
    </div>
  )
}

/** What is noted about an entry, in its row. It gives way to the name; the sign of a lock stays. */
export function NoteMarks({ entry }: { entry: Entry }) {
  if (!entry.tags && !entry.comments && !entry.lock) return null
  const held = entry.lock && `locked by ${entry.lock.own ? 'you' : plain(entry.lock.by)}`
  return (
    <>
      {entry.lock && (
        <span className="shrink-0 text-ochre" title={`${held} until ${when(entry.lock.until)}`}>
          <Lock className="size-3.5" role="img" aria-label={held} />
        </span>
      )}
      <span className="flex min-w-0 shrink-[9999] items-center gap-2 overflow-hidden text-small whitespace-nowrap text-soft">
        {held && (
          <span className="text-ochre" aria-hidden="true">
            {held}
          </span>
        )}
        {entry.tags?.map((tag) => (
          <span key={tag} className="rounded-md border border-line px-1" title={`Tag: ${plain(tag)}`}>
            {plain(tag)}
          </span>
        ))}
        {entry.comments ? (
          <span className="flex items-center gap-1" title={some(entry.comments, 'comment')}>
            <MessageSquare className="size-3.5" role="img" aria-label="comments" />
            {count(entry.comments)}
          </span>
        ) : null}
      </span>
    </>
  )
}
