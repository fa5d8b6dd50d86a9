import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useMemo, useRef, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import type { Compared, Count, Summary } from '../api/client'
import { openLink } from '../files/dialogs'
import { TargetField } from '../files/TargetField'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { bytes, count, plain, some } from '../ui/format'
import { Failed } from '../ui/Banner'
import { Tabs } from '../ui/Tabs'
import { TimeField } from '../ui/TimeField'
import { useComparison } from './useComparison'

type Outcome = NonNullable<Compared['outcome']>

const outcomes: { outcome: Outcome; title: string; shape: string; colour: string }[] = [
  { outcome: 'only-here', title: 'Only here', shape: '+', colour: 'text-plumage' },
  { outcome: 'only-there', title: 'Only there', shape: '−', colour: 'text-ochre' },
  { outcome: 'differing', title: 'Differing', shape: '≠', colour: 'text-brick' },
  { outcome: 'untold', title: 'Not told', shape: '?', colour: 'text-soft' },
  { outcome: 'unreadable', title: 'Unreadable', shape: '✗', colour: 'text-brick' },
]

/** Two places compared with each other. The addresses stand in the page's own. */
export function ComparePage() {
  const [search, setSearch] = useSearchParams()
  const [here, setHere] = useState(search.get('here') ?? '')
  const [there, setThere] = useState(search.get('there') ?? '')
  const [hereAt, setHereAt] = useState(search.get('here_at') ?? undefined)
  const [thereAt, setThereAt] = useState(search.get('there_at') ?? undefined)
  const [read, setRead] = useState(false)
  const { comparison, begin, end } = useComparison()
  useEffect(() => {
    document.title = 'Compare · Deft Heron'
  }, [])
  const ready = here.startsWith('/') && there.startsWith('/')
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <h1 className="py-3 text-title font-semibold">Compare</h1>
      <form
        className="grid gap-3 pb-3 sm:grid-cols-[1fr_1fr_auto] sm:items-end"
        onSubmit={(event) => {
          event.preventDefault()
          setSearch({ here, there, ...(hereAt ? { here_at: hereAt } : {}), ...(thereAt ? { there_at: thereAt } : {}) }, { replace: true })
          begin({ here, there, hereAt, thereAt }, read)
        }}
      >
        <div className="grid gap-2">
          <TargetField label="Here" value={here} onChange={setHere} files />
          <TimeField label="Here, as it was at (empty for now)" value={hereAt} onChange={setHereAt} />
        </div>
        <div className="grid gap-2">
          <TargetField label="There" value={there} onChange={setThere} files />
          <TimeField label="There, as it was at (empty for now)" value={thereAt} onChange={setThereAt} />
        </div>
        {comparison.going ? (
          <Button onClick={end}>Stop</Button>
        ) : (
          <Button look="first" type="submit" disabled={!ready}>
            Compare
          </Button>
        )}
        <label className="flex items-center gap-2 sm:col-span-3">
          <Checkbox checked={read} onChange={setRead} label="Read contents" />
          <span>
            Read contents <span className="text-soft">of files of the same size for which both sides tell no evidence</span>
          </span>
        </label>
      </form>
      {comparison.error && <Failed error={comparison.error} />}
      {!comparison.going && !comparison.summary && !comparison.error && (
        <p className="border-t border-line py-6 text-soft">Two folders, or two files, of any accounts, or one at two times as far as history tells. What is only here, only there, or differs is listed; what is equal is counted, with the evidence. Nothing is changed.</p>
      )}
      {comparison.summary && <Figures summary={comparison.summary} />}
      {comparison.going && (
        <p role="status" className="border-t border-line py-3 text-soft">
          Comparing… {some(comparison.lines.length, 'entry')} not equal so far.
        </p>
      )}
      {comparison.lines.length > 0 && <Lines lines={comparison.lines} />}
    </div>
  )
}

function Figures({ summary }: { summary: Summary }) {
  const of: Record<Outcome, Count> = {
    'only-here': summary.only_here, 'only-there': summary.only_there, differing: summary.differing, untold: summary.untold, unreadable: summary.unreadable, equal: summary.equal,
  }
  const shown = outcomes.filter(({ outcome }) => of[outcome].items > 0)
  const evidence = Object.entries(summary.evidence).map(([kind, n]) => `${count(n)} by ${kind === 'pair' ? 'what is remembered of a copy' : kind}`)
  return (
    <div className="border-t border-line py-3">
      <p role="status" className={`text-large ${shown.length === 0 ? 'text-reed' : ''}`}>
        {shown.length === 0 ? '✓ Both sides hold the same.' : 'The two sides differ.'}
      </p>
      <dl className="mt-2 flex flex-wrap gap-x-8 gap-y-2">
        {shown.map(({ outcome, title, shape, colour }) => (
          <div key={outcome}>
            <dt className="text-small text-soft">{title}</dt>
            <dd className={colour}>
              {shape} {some(of[outcome].items, 'entry')}, {bytes(of[outcome].bytes)}
            </dd>
          </div>
        ))}
        <div>
          <dt className="text-small text-soft">Equal</dt>
          <dd>
            <span className="text-reed">
              = {some(summary.equal.items, 'file')}, {bytes(summary.equal.bytes)}
            </span>
            {evidence.length > 0 && <span className="text-soft"> ({evidence.join(', ')})</span>}
          </dd>
        </div>
      </dl>
    </div>
  )
}

const columns = 'grid h-8 grid-cols-[16px_minmax(0,1fr)_80px_80px] items-center gap-x-3 sm:grid-cols-[110px_minmax(0,1fr)_90px_90px_90px]'

function Lines({ lines }: { lines: Compared[] }) {
  const [chosen, setChosen] = useState('all')
  const counts = useMemo(() => {
    const found = new Map<string, number>()
    for (const line of lines) found.set(line.outcome ?? '', (found.get(line.outcome ?? '') ?? 0) + 1)
    return found
  }, [lines])
  const rows = useMemo(() => (chosen === 'all' ? lines : lines.filter((line) => line.outcome === chosen)), [lines, chosen])
  const box = useRef<HTMLDivElement>(null)
  const list = useVirtualizer({ count: rows.length, getScrollElement: () => box.current, estimateSize: () => 32, overscan: 12 })
  return (
    <section aria-label="What is not equal" className="flex min-h-60 flex-1 flex-col border-t border-line">
      <Tabs
        label="Entries shown"
        value={chosen}
        onChange={setChosen}
        choices={[{ value: 'all', title: `All ${count(lines.length)}` }, ...outcomes.filter(({ outcome }) => counts.has(outcome)).map(({ outcome, title }) => ({ value: outcome, title: `${title} ${count(counts.get(outcome)!)}` }))]}
      />
      <div className={`${columns} border-b border-line text-small text-soft`} aria-hidden="true">
        <span>
          <span className="hidden sm:inline">Outcome</span>
        </span>
        <span>Name</span>
        <span className="text-right">Size here</span>
        <span className="text-right">Size there</span>
        <span className="hidden text-right sm:block">Open</span>
      </div>
      <div ref={box} tabIndex={0} role="list" aria-label="Entries" className="relative min-h-0 flex-1 overflow-auto">
        <div style={{ height: list.getTotalSize(), position: 'relative' }}>
          {list.getVirtualItems().map((row) => (
            <div key={row.key} role="listitem" style={{ position: 'absolute', top: row.start, left: 0, right: 0, height: 32 }} className="border-b border-line">
              <Line line={rows[row.index]!} />
            </div>
          ))}
        </div>
      </div>
    </section>
  )
}

function Line({ line }: { line: Compared }) {
  const look = outcomes.find(({ outcome }) => outcome === line.outcome)
  const size = (entry: Compared['here']) => (!entry ? '' : entry.kind === 'folder' ? 'folder' : bytes(entry.size))
  const link = (entry: Compared['here'], title: string) =>
    entry && (
      <Link to={openLink(entry)} className="text-plumage hover:underline" aria-label={`Open ${title} ${plain(line.name ?? '')}`}>
        {title}
      </Link>
    )
  return (
    <div className={columns}>
      <span className={`whitespace-nowrap ${look?.colour}`}>
        {look?.shape} <span className="sr-only sm:not-sr-only">{look?.title}</span>
      </span>
      <span className="truncate font-mono text-small" title={line.why || line.name}>
        {plain(line.name ?? '')}
        {line.kind === 'folder' && '/'} {line.why && <span className="text-brick">{line.why}</span>}
      </span>
      <span className="text-right whitespace-nowrap">{size(line.here)}</span>
      <span className="text-right whitespace-nowrap">{size(line.there)}</span>
      <span className="hidden justify-end gap-2 text-small sm:flex">
        {link(line.here, 'here')}
        {link(line.there, 'there')}
      </span>
    </div>
  )
}
