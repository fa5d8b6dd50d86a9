import { useMutation, useQuery } from '@tanstack/react-query'
import { useRef } from 'react'
import { api, data } from '../api/client'
import type { components } from '../api/schema'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { saveText } from '../ui/file'
import { count, some } from '../ui/format'

type Person = components['schemas']['SurveyedPerson']
type Table = Record<string, string>

// How many rows are shown; longer tables are edited as CSV.
const most = 100

const cell = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text)

/** The people of the share lists, those without an answer first, then those in the table alone. */
function rowsOf(people: Person[], table: Table): Person[] {
  const listed = new Set(people.map((one) => one.person))
  const alone = Object.keys(table)
    .filter((old) => !listed.has(old))
    .sort()
    .map((person) => ({ person, shared: 0, owns: 0 }))
  return [...people.filter((one) => !(one.person in table)), ...people.filter((one) => one.person in table), ...alone]
}

/** Who is who in a migration that carries share lists over: a table that is saved with the job. */
export function PeopleTable({ job, table, onChange }: { job?: string; table: Table; onChange: (table: Table) => void }) {
  const file = useRef<HTMLInputElement>(null)
  const known = useQuery({
    queryKey: ['jobs', job, 'people'],
    queryFn: () => data(api.GET('/api/v1/jobs/{name}/people', { params: { path: { name: job ?? '' } } })),
    enabled: !!job,
  })
  const read = useMutation({
    mutationFn: async (chosen: File) => (await data(api.POST('/api/v1/jobs/people', { body: { text: await chosen.text() } }))).table,
    onSuccess: onChange,
  })
  const people = known.data?.people ?? []
  const rows = rowsOf(people, table)
  const proposed = people.filter((one) => one.proposed && !(one.person in table))
  const set = (person: string, becomes: string) => onChange({ ...table, [person]: becomes })
  const drop = (person: string) => onChange(Object.fromEntries(Object.entries(table).filter(([old]) => old !== person)))
  const save = () =>
    saveText('people.csv', ['old,new', ...rows.map((one) => `${cell(one.person)},${cell(table[one.person] ?? (one.proposed ? (one.becomes ?? '') : ''))}`), ''].join('\n'))
  const open = people.filter((one) => !(one.person in table)).length
  return (
    <section aria-label="People" className="grid gap-2">
      <p className="text-small text-soft">
        {known.data?.note ??
          (job
            ? open > 0
              ? `${open === 1 ? '1 person' : `${count(open)} people`} of the share lists ${open === 1 ? 'is' : 'are'} not in the table and would be given no rights.`
              : `Everybody in the share lists is in the table.`
            : 'The survey of the migration lists the people. You can read a table now, or fill it in after the survey.')}
      </p>
      {rows.length > 0 && (
        <table className="w-full">
          <thead className="text-left text-small text-soft">
            <tr className="border-b border-line">
              <th className="py-1 pr-3 font-normal">Person at the source</th>
              <th className="hidden py-1 pr-3 text-right font-normal sm:table-cell">Shared</th>
              <th className="hidden py-1 pr-3 text-right font-normal sm:table-cell">Owned</th>
              <th className="py-1 font-normal">At the target</th>
            </tr>
          </thead>
          <tbody>
            {rows.slice(0, most).map((one) => (
              <tr key={one.person} className="border-b border-line align-top">
                <td className="py-1.5 pr-3 font-mono text-small wrap-anywhere">{one.person}</td>
                <td className="hidden py-1.5 pr-3 text-right sm:table-cell">{count(one.shared)}</td>
                <td className="hidden py-1.5 pr-3 text-right sm:table-cell">{count(one.owns)}</td>
                <td className="py-1">
                  <Becomes one={one} becomes={table[one.person]} onSet={set} onDrop={drop} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {rows.length > most && <p className="text-small text-soft">{count(rows.length - most)} more are in the CSV file.</p>}
      {known.isError && <Failed error={known.error} />}
      {read.isError && <Failed error={read.error} />}
      <div className="flex flex-wrap gap-2">
        {proposed.length > 0 && (
          <Button onClick={() => onChange({ ...table, ...Object.fromEntries(proposed.map((one) => [one.person, one.becomes ?? ''])) })}>
            Accept {some(proposed.length, 'proposal')}
          </Button>
        )}
        {rows.length > 0 && <Button onClick={save}>Save as CSV</Button>}
        <Button onClick={() => file.current?.click()}>Read a CSV file…</Button>
        <input
          ref={file}
          type="file"
          accept=".csv,text/csv"
          hidden
          aria-label="Table of people as CSV"
          onChange={(event) => {
            const chosen = event.target.files?.[0]
            if (chosen) read.mutate(chosen)
            event.target.value = ''
          }}
        />
      </div>
    </section>
  )
}

function Becomes({ one, becomes, onSet, onDrop }: { one: Person; becomes?: string; onSet: (person: string, becomes: string) => void; onDrop: (person: string) => void }) {
  const named = becomes !== undefined
  return (
    <div className="grid gap-1">
      <div className="flex gap-2">
        <label className="w-full">
          <span className="sr-only">{`Address of ${one.person} at the target`}</span>
          <input
          type="email"
          spellCheck={false}
          autoComplete="off"
          placeholder={named ? 'left out' : one.proposed ? one.becomes : 'not in the table'}
          value={becomes ?? ''}
          onChange={(event) => onSet(one.person, event.target.value)}
          className="h-8 w-full min-w-40 rounded-md border border-line bg-ground px-3 font-mono text-small placeholder:text-soft"
          />
        </label>
        {named ? <Button onClick={() => onDrop(one.person)}>Remove row</Button> : <Button onClick={() => onSet(one.person, '')}>Leave out</Button>}
      </div>
      {!named && one.proposed && <span className="text-small text-ochre">Proposed: the target knows this address.</span>}
      {one.cause === 'person-unknown' && becomes === one.becomes && <span className="text-small text-brick">The target does not know this address.</span>}
      {one.cause === 'no-share-lists' && <span className="text-small text-brick">The target has no share lists.</span>}
    </div>
  )
}
