import { useState } from 'react'
import type { components } from '../api/schema'
import { Checkbox } from '../ui/Checkbox'
import { Choice } from '../ui/Choice'
import { Field, SelectField } from '../ui/Field'
import { hoursOf, hoursText, type Limits } from '../ui/hours'

export type Rules = components['schemas']['Rules']

const clashes = [
  { value: 'keep-both', title: 'Keep both', help: 'the source’s goes beside the target’s' },
  { value: 'newer', title: 'Newer', help: 'the one that was changed later' },
  { value: 'source', title: 'Source', help: 'replaces the target’s' },
  { value: 'leave', title: 'Leave', help: 'the target’s stays' },
  { value: 'ask', title: 'Ask', help: 'the run waits for a person, when all else is done' },
]

const types = ['documents', 'pictures', 'sound', 'film']

const lines = (text: string) => text.split('\n').map((line) => line.trim()).filter(Boolean)

/** What is taken and how; what is not said is left to the service's defaults. */
export function RulesForm({ rules, onChange, merges }: { rules: Rules; onChange: (rules: Rules) => void; merges?: boolean }) {
  const [more, setMore] = useState(false)
  const set = (change: Partial<Rules>) => onChange({ ...rules, ...change })
  const text = (key: 'smaller_than' | 'larger_than' | 'newer_than' | 'older_than' | 'as', label: string, placeholder: string) => (
    <Field label={label} placeholder={placeholder} value={rules[key] ?? ''} onChange={(event) => set({ [key]: event.target.value || undefined })} />
  )
  return (
    <>
      <Choice legend="Where both sides changed" value={rules.clash ?? 'keep-both'} onChange={(clash) => set({ clash })} choices={clashes} />
      <button type="button" aria-expanded={more} onClick={() => setMore(!more)} className="justify-self-start text-plumage hover:underline">
        {more ? 'Fewer rules' : 'More rules: what is left out, names, proof, pace'}
      </button>
      {more && (
        <div className="grid gap-3 border-l-2 border-line pl-4">
          <Patterns label="Leave out" help="One pattern a line, as in a .gitignore file: *.tmp, build/" value={rules.leave_out} onChange={(leave_out) => set({ leave_out })} />
          <Patterns label="Take only" help="One pattern a line" value={rules.only} onChange={(only) => set({ only })} />
          <fieldset>
            <legend className="text-small text-soft">Only files of these types</legend>
            <div className="mt-1 flex flex-wrap gap-4">
              {types.map((type) => {
                const chosen = rules.types?.includes(type) ?? false
                const rest = (rules.types ?? []).filter((other) => other !== type)
                const next = chosen ? rest : [...rest, type]
                return (
                  <span key={type} className="flex items-center gap-2">
                    <Checkbox checked={chosen} label={`Only ${type}`} onChange={() => set({ types: next.length ? next : undefined })} />
                    {type}
                  </span>
                )
              })}
            </div>
          </fieldset>
          <div className="grid grid-cols-2 gap-3">
            {text('smaller_than', 'Smaller than', '2GiB')}
            {text('larger_than', 'Larger than', '10MB')}
            {text('newer_than', 'Changed after, or within', '2020-01-31 or 30d')}
            {text('older_than', 'Changed before', '2y')}
          </div>
          {text('as', 'Names from a template', '{date:%Y}/{date:%m}/{name}')}
          {rules.as?.includes('{run') && (
            <span className="flex items-center gap-2">
              <Checkbox checked={rules.only_changed ?? false} label="Only what has changed since an earlier run" onChange={(only) => set({ only_changed: only || undefined })} />
              Only what has changed since an earlier run brought it
            </span>
          )}
          <div className="grid grid-cols-2 gap-3">
            <SelectField
              label="Names that the target cannot hold"
              value={rules.names ?? 'translate'}
              onChange={(names) => set({ names })}
              choices={[
                { value: 'translate', title: 'translate, and back again on the way home' },
                { value: 'refuse', title: 'report as failed' },
              ]}
            />
            <SelectField
              label="Proof of what arrived"
              value={rules.proof ?? 'hash'}
              onChange={(proof) => set({ proof })}
              choices={[
                { value: 'hash', title: 'by hash; read back where none is told' },
                { value: 'readback', title: 'always read back' },
                { value: 'size', title: 'by size alone where no hash is told' },
              ]}
            />
            <SelectField
              label="Beside other runs"
              value={rules.priority ?? 'normal'}
              onChange={(priority) => set({ priority: priority === 'normal' ? undefined : priority })}
              choices={[
                { value: 'low', title: 'low priority' },
                { value: 'normal', title: 'normal priority' },
                { value: 'high', title: 'high priority: begins first, and gets more of an account' },
              ]}
            />
            {merges && (
              <SelectField
                label="Identical files of the sources"
                value={rules.identical ?? ''}
                onChange={(identical) => set({ identical: identical || undefined })}
                choices={[
                  { value: '', title: 'once, where the sources are merged' },
                  { value: 'once', title: 'once' },
                  { value: 'each', title: 'each of them' },
                ]}
              />
            )}
            <Field label="Send at most" placeholder="20MB/s" value={rules.pace?.up ?? ''} onChange={(event) => set({ pace: paceOf({ ...rules.pace, up: event.target.value }) })} />
            <Field label="Receive at most" placeholder="20MB/s" value={rules.pace?.down ?? ''} onChange={(event) => set({ pace: paceOf({ ...rules.pace, down: event.target.value }) })} />
          </div>
          <Hours pace={rules.pace} onChange={(hours) => set({ pace: paceOf({ ...rules.pace, hours }) })} />
        </div>
      )}
    </>
  )
}

/** Rates at hours of the week, a line each. */
function Hours({ pace, onChange }: { pace: Rules['pace']; onChange: (hours: Limits['hours']) => void }) {
  const [text, setText] = useState(hoursText(pace ?? {}))
  return (
    <label className="grid gap-1">
      <span className="text-small text-soft">Rates at hours of the week, one a line</span>
      <textarea
        rows={Math.max(1, text.split('\n').length)}
        spellCheck={false}
        placeholder="mon-fri 08-18: 5MB/s"
        value={text}
        onChange={(event) => {
          setText(event.target.value)
          onChange(hoursOf(event.target.value))
        }}
        className="w-full rounded-md border border-line bg-ground px-3 py-1 font-mono text-small placeholder:text-soft"
      />
    </label>
  )
}

function paceOf(pace: NonNullable<Rules['pace']>): Rules['pace'] {
  const limits = { up: pace.up || undefined, down: pace.down || undefined, hours: pace.hours }
  return limits.up || limits.down || limits.hours ? limits : undefined
}

function Patterns({ label, help, value, onChange }: { label: string; help: string; value: string[] | null | undefined; onChange: (value: string[] | undefined) => void }) {
  const [text, setText] = useState((value ?? []).join('\n'))
  return (
    <label className="grid gap-1">
      <span className="text-small text-soft">{label}</span>
      <textarea
        rows={2}
        spellCheck={false}
        value={text}
        onChange={(event) => {
          setText(event.target.value)
          const patterns = lines(event.target.value)
          onChange(patterns.length ? patterns : undefined)
        }}
        className="w-full rounded-md border border-line bg-ground px-3 py-1 font-mono text-small"
      />
      <span className="text-small text-soft">{help}</span>
    </label>
  )
}
