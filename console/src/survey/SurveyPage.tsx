import { useEffect, useRef, useState } from 'react'
import { useSearchParams } from 'react-router'
import { Failure } from '../api/client'
import type { components } from '../api/schema'
import { TargetField } from '../files/TargetField'
import { Button } from '../ui/Button'
import { bytes, count, plain, some } from '../ui/format'
import { follow } from '../ui/lines'
import { Failed } from '../ui/Banner'

type Survey = components['schemas']['Survey']
type Surveying = components['schemas']['Surveying']
type Taken = { survey?: Survey; entries: number; error?: Error; going: boolean }

/** The inventory of a folder before it is moved, and what a target could not hold. */
export function SurveyPage() {
  const [search, setSearch] = useSearchParams()
  const [of, setOf] = useState(search.get('of') ?? '')
  const [target, setTarget] = useState(search.get('for') ?? '')
  const { taken, begin, end } = useSurvey()
  useEffect(() => {
    document.title = 'Survey · Deft Heron'
  }, [])
  const ready = of.startsWith('/') && of.length > 1 && (target === '' || target.startsWith('/'))
  return (
    <div className="min-h-0 flex-1 overflow-auto pb-8">
      <h1 className="py-3 text-title font-semibold">Survey</h1>
      <form
        className="grid gap-3 pb-3 sm:grid-cols-[1fr_1fr_auto] sm:items-end"
        onSubmit={(event) => {
          event.preventDefault()
          setSearch({ of, ...(target && { for: target }) }, { replace: true })
          begin(of, target)
        }}
      >
        <TargetField label="Of the folder" value={of} onChange={setOf} />
        <TargetField label="For a target (optional)" value={target} onChange={setTarget} />
        {taken.going ? (
          <Button onClick={end}>Stop</Button>
        ) : (
          <Button look="first" type="submit" disabled={!ready}>
            Take the survey
          </Button>
        )}
      </form>
      {taken.error && <Failed error={taken.error} />}
      {taken.going && (
        <p role="status" className="border-t border-line py-3 text-soft">
          Listing… {some(taken.entries, 'entry')} seen.
        </p>
      )}
      {!taken.going && !taken.survey && !taken.error && (
        <p className="border-t border-line py-6 text-soft">
          What a folder holds before it is moved: by type and age, the largest, the deepest, what is there twice, and which names and sizes a target could not hold. Nothing is read or written.
        </p>
      )}
      {taken.survey && <Found survey={taken.survey} />}
    </div>
  )
}

function useSurvey() {
  const [taken, setTaken] = useState<Taken>({ entries: 0, going: false })
  const stop = useRef<AbortController>(undefined)
  useEffect(() => () => stop.current?.abort(), [])
  const begin = (address: string, target: string) => {
    stop.current?.abort()
    const mine = new AbortController()
    stop.current = mine
    setTaken({ entries: 0, going: true })
    const show = (more: Partial<Taken>) => mine.signal.aborted || setTaken((now) => ({ ...now, ...more }))
    let found: Survey | undefined
    follow(`/api/v1/survey?${new URLSearchParams({ address, ...(target && { for: target }) })}`, mine.signal, (line) => {
      const one = JSON.parse(line) as Surveying
      if (one.problem) throw new Failure(one.problem)
      if (one.survey) found = one.survey
      else show({ entries: one.entries ?? 0 })
    })
      .then(() => show({ going: false, survey: found, error: found ? undefined : new Error('The survey broke off before its end; take it again.') }))
      .catch((error: Error) => show({ going: false, error }))
  }
  const end = () => {
    stop.current?.abort()
    setTaken((now) => ({ ...now, going: false, error: new Error('It was stopped, and says nothing.') }))
  }
  return { taken, begin, end }
}

function Found({ survey }: { survey: Survey }) {
  const page = `/api/v1/survey?${new URLSearchParams({ address: survey.address, ...(survey.for && { for: survey.for }), format: 'html' })}`
  const troubles: [number, string][] = [
    [survey.translated, `${some(survey.translated, 'name')} to be translated`],
    [survey.refused, `${some(survey.refused, 'name')} that cannot be held`],
    [survey.too_large.items, `${some(survey.too_large.items, 'file')} too large (${bytes(survey.too_large.bytes)})`],
  ]
  return (
    <div className="grid gap-6 border-t border-line pt-3">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <p role="status" className="text-large">
          {some(survey.files, 'file')} in {some(survey.folders, 'folder')}, {bytes(survey.bytes)}
        </p>
        <a href={page} target="_blank" rel="noreferrer" className="text-plumage hover:underline">
          The page to hand over
        </a>
      </div>
      {survey.for && (
        <section aria-label="What the target cannot hold">
          <h2 className="font-semibold">What {plain(survey.for)} cannot hold as it is</h2>
          {troubles.every(([n]) => n === 0) ? <p className="text-reed">Nothing: every name and every size can be held there.</p> : <p className="text-dusk">{troubles.filter(([n]) => n > 0).map(([, words]) => words).join(', ')}.</p>}
          <ul className="mt-1 font-mono text-small">
            {survey.names.slice(0, 10).map((name) => (
              <li key={name.address} className="break-all">
                {plain(name.address)} → {name.target ? <span className="text-dusk">{plain(name.target)}</span> : <span className="text-brick">{name.why}</span>}
              </li>
            ))}
          </ul>
        </section>
      )}
      <div className="grid gap-6 md:grid-cols-2">
        <Groups title="By type" groups={survey.types} all={survey.bytes} />
        <Groups title="By when they were changed last" groups={survey.ages} all={survey.bytes} />
      </div>
      {survey.exports.length > 0 && <p>{survey.exports.map((one) => `${some(one.items, `${one.document} document`)} would be exported as ${one.format}`).join('; ')}.</p>}
      <section aria-label="The same content more than once">
        <h2 className="font-semibold">The same content more than once</h2>
        <p>
          {survey.hashed === 0
            ? 'Not known: the provider tells no hashes in its listings.'
            : survey.repeated.items === 0
              ? `None among ${some(survey.hashed, 'file')} whose hash is reported.`
              : `${some(survey.repeated.items, 'file')} (${bytes(survey.repeated.bytes)}) more than needed, of ${count(survey.hashed)} whose hash is reported.`}
        </p>
      </section>
      <section aria-label="The largest">
        <h2 className="font-semibold">The largest</h2>
        <table className="w-full">
          <tbody>
            {survey.largest.slice(0, 10).map((file) => (
              <tr key={file.address} className="border-t border-line">
                <td className="py-1 pr-4 font-mono text-small break-all">{plain(file.address)}</td>
                <td className="py-1 text-right whitespace-nowrap">{bytes(file.size)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </div>
  )
}

function Groups({ title, groups, all }: { title: string; groups: components['schemas']['Group'][]; all: number }) {
  return (
    <section aria-label={title}>
      <h2 className="font-semibold">{title}</h2>
      <table className="w-full">
        <tbody>
          {groups.map((group) => (
            <tr key={group.name} className="border-t border-line">
              <td className="py-1 pr-4">{group.name}</td>
              <td className="py-1 pr-4 text-right">{some(group.items, 'file')}</td>
              <td className="py-1 text-right whitespace-nowrap">{bytes(group.bytes)}</td>
              <td className="py-1 pl-4 text-right text-soft">{all > 0 ? `${Math.round((100 * group.bytes) / all)} %` : '—'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
