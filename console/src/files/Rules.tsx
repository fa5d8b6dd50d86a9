import { useState } from 'react'
import type { components } from '../api/schema'
import { Checkbox } from '../ui/Checkbox'
import { Choice } from '../ui/Choice'
import { Field, SelectField } from '../ui/Field'
import { BandwidthHours } from '../ui/BandwidthHours'
import type { Limits } from '../ui/hours'

type JobSpec = components['schemas']['Spec']
export type Rules = NonNullable<JobSpec['rules']>
type Include = NonNullable<Rules['include']>

/** What a copy and a job have in common. */
export type Settings = Pick<JobSpec, 'rules' | 'priority' | 'retry' | 'bandwidth'>

const conflicts = [
  { value: 'keep-both', title: 'Keep both', help: 'write the source’s file beside the target’s' },
  { value: 'newer', title: 'Newer', help: 'keep the file that changed last' },
  { value: 'source', title: 'Source', help: 'replace the target’s file' },
  { value: 'target', title: 'Target', help: 'keep the target’s file' },
  { value: 'ask', title: 'Ask', help: 'hold the run for a decision once everything else is done' },
]

const types = ['documents', 'pictures', 'sound', 'film']

const lines = (text: string) => text.split('\n').map((line) => line.trim()).filter(Boolean)

/** The value without empty parts; undefined if nothing is left. */
function given<T extends object>(value: T): T | undefined {
  const left = Object.entries(value).filter(([, one]) => one !== undefined && one !== '' && one !== false)
  return left.length ? (Object.fromEntries(left) as T) : undefined
}

/** The settings of a copy or a job. What is not set is left to the service's defaults. */
export function RulesForm({ settings, onChange, merges }: { settings: Settings; onChange: (settings: Settings) => void; merges?: boolean }) {
  const [more, setMore] = useState(false)
  const rules = settings.rules ?? {}
  const include = rules.include ?? {}
  const set = (change: Partial<Rules>) => onChange({ ...settings, rules: { ...rules, ...change } })
  const filter = (change: Partial<Include>) => set({ include: given({ ...include, ...change }) })
  const limit = (change: Partial<Limits>) => onChange({ ...settings, bandwidth: given({ ...settings.bandwidth, ...change }) })
  const size = (key: 'smaller_than' | 'larger_than' | 'newer_than' | 'older_than', label: string, placeholder: string) => (
    <Field label={label} placeholder={placeholder} value={include[key] ?? ''} onChange={(event) => filter({ [key]: event.target.value })} />
  )
  return (
    <>
      <Choice legend="Conflicts" value={rules.conflict ?? 'keep-both'} onChange={(conflict) => set({ conflict })} choices={conflicts} />
      <button type="button" aria-expanded={more} onClick={() => setMore(!more)} className="justify-self-start text-plumage hover:underline">
        {more ? 'Fewer settings' : 'More settings: filters, names, verification, bandwidth'}
      </button>
      {more && (
        <div className="grid gap-3 border-l-2 border-line pl-4">
          <Patterns label="Exclude" help="One pattern a line, as in a .gitignore file: *.tmp, build/" value={rules.exclude} onChange={(exclude) => set({ exclude })} />
          <Patterns label="Include only" help="One pattern a line" value={include.patterns} onChange={(patterns) => filter({ patterns })} />
          <fieldset>
            <legend className="text-small text-soft">Include only files of these types</legend>
            <div className="mt-1 flex flex-wrap gap-4">
              {types.map((type) => {
                const chosen = include.types?.includes(type) ?? false
                const rest = (include.types ?? []).filter((other) => other !== type)
                const next = chosen ? rest : [...rest, type]
                return (
                  <span key={type} className="flex items-center gap-2">
                    <Checkbox checked={chosen} label={`Only ${type}`} onChange={() => filter({ types: next.length ? next : undefined })} />
                    {type}
                  </span>
                )
              })}
            </div>
          </fieldset>
          <div className="grid grid-cols-2 gap-3">
            {size('smaller_than', 'Smaller than', '2GiB')}
            {size('larger_than', 'Larger than', '10MB')}
            {size('newer_than', 'Changed after, or within', '2020-01-31 or 30d')}
            {size('older_than', 'Changed before', '2y')}
          </div>
          <Field label="Template for names" placeholder="{date:%Y}/{date:%m}/{name}" value={rules.as ?? ''} onChange={(event) => set({ as: event.target.value || undefined })} />
          {rules.as?.includes('{run') && (
            <span className="flex items-center gap-2">
              <Checkbox checked={include.changed ?? false} label="Only files changed since an earlier run" onChange={(changed) => filter({ changed })} />
              Only files changed since an earlier run transferred them
            </span>
          )}
          <div className="grid grid-cols-2 gap-3">
            <SelectField
              label="Names that the target does not allow"
              value={rules.names ?? 'translate'}
              onChange={(names) => set({ names })}
              choices={[
                { value: 'translate', title: 'translate, reversibly' },
                { value: 'refuse', title: 'report as failed' },
              ]}
            />
            <SelectField
              label="Verification"
              value={rules.verify ?? 'hash'}
              onChange={(verify) => set({ verify })}
              choices={[
                { value: 'hash', title: 'by hash; read back if the target reports none' },
                { value: 'read-back', title: 'always read back' },
                { value: 'size', title: 'by size if the target reports no hash' },
              ]}
            />
            <SelectField
              label="Tags and comments"
              value={rules.annotations ?? ''}
              onChange={(annotations) => set({ annotations: annotations === 'carry' ? annotations : undefined })}
              choices={[
                { value: '', title: 'leave at the source' },
                { value: 'carry', title: 'carry over to the target' },
              ]}
            />
            <SelectField
              label="Priority"
              value={settings.priority ?? 'normal'}
              onChange={(priority) => onChange({ ...settings, priority: priority === 'normal' ? undefined : priority })}
              choices={[
                { value: 'low', title: 'low' },
                { value: 'normal', title: 'normal' },
                { value: 'high', title: 'high: starts first, and gets more of an account' },
              ]}
            />
            {merges && (
              <SelectField
                label="Identical files of the sources"
                value={rules.identical ?? ''}
                onChange={(identical) => set({ identical: identical || undefined })}
                choices={[
                  { value: '', title: 'keep once if the sources are merged' },
                  { value: 'once', title: 'keep once' },
                  { value: 'each', title: 'keep each' },
                ]}
              />
            )}
            <Field label="Bandwidth limit up" placeholder="20MB/s" value={settings.bandwidth?.up ?? ''} onChange={(event) => limit({ up: event.target.value })} />
            <Field label="Bandwidth limit down" placeholder="20MB/s" value={settings.bandwidth?.down ?? ''} onChange={(event) => limit({ down: event.target.value })} />
          </div>
          <BandwidthHours value={settings.bandwidth?.hours} onChange={(hours) => limit({ hours })} />
        </div>
      )}
    </>
  )
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
