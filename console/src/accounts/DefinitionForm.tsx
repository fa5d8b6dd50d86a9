import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data, Failure, type Provider, type TrialResult } from '../api/client'
import { Button } from '../ui/Button'
import { Field } from '../ui/Field'
import { plain, some } from '../ui/format'
import { Failed } from '../ui/Banner'
import { consentsOf, ConsentSteps } from './Consent'

/** A provider definition is pasted or read from a file, checked, tried, and added. */
export function DefinitionForm({ onClose }: { onClose: () => void }) {
  const client = useQueryClient()
  const [text, setText] = useState('')
  const [file, setFile] = useState('')
  const body = { text, file: file || undefined }
  const check = useMutation({ mutationFn: () => data(api.POST('/api/v1/definitions/checks', { body })) })
  const add = useMutation({
    mutationFn: () => data(api.POST('/api/v1/definitions', { body })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['providers'] })
      onClose()
    },
  })
  const error = add.error ?? check.error
  return (
    <section aria-label="A definition" className="mb-6 grid max-w-3xl gap-4 border-b border-line pb-6">
      <label className="grid gap-1">
        <span className="text-small text-soft">The definition (YAML)</span>
        <textarea
          spellCheck={false}
          rows={12}
          value={text}
          onChange={(event) => {
            setText(event.target.value)
            check.reset()
            add.reset()
          }}
          className="w-full rounded-md border border-line bg-panel p-3 font-mono text-small"
        />
      </label>
      <label className="grid justify-items-start gap-1">
        <span className="text-small text-soft">or from a file</span>
        <input
          type="file"
          accept=".yaml,.yml"
          onChange={async (event) => {
            const chosen = event.target.files?.[0]
            if (!chosen) return
            setFile(chosen.name)
            setText(await chosen.text())
          }}
        />
      </label>
      {error && <Failed error={error} />}
      {check.data && !add.error && (
        <p role="status" className="text-reed">
          ✓ {check.data.title} is understood. Try it against a live account, or add it.
        </p>
      )}
      <div className="flex gap-2">
        <Button look="first" disabled={!text || check.isPending} onClick={() => check.mutate()}>
          Check it
        </Button>
        <Button disabled={!check.data || add.isPending} onClick={() => add.mutate()}>
          Add it
        </Button>
        <Button onClick={onClose}>Close</Button>
      </div>
      {check.data && <Trial key={text} text={text} file={file} provider={check.data} />}
    </section>
  )
}

/** Tries a definition in a scratch folder of a live account, and shows each part as it ends. */
function Trial({ text, file, provider }: { text: string; file: string; provider: Provider }) {
  const [values, setValues] = useState<Record<string, string>>({})
  const [secret, setSecret] = useState('')
  const [results, setResults] = useState<TrialResult[]>([])
  const [wrong, setWrong] = useState<unknown>()
  const [running, setRunning] = useState(false)
  const options = Object.fromEntries(Object.entries(values).filter(([, value]) => value !== ''))
  const offered = consentsOf(provider.consents, values['sign-in']).filter((way) => way !== 'page')
  const run = async (consent?: string) => {
    setResults([])
    setWrong(undefined)
    setRunning(true)
    try {
      await read({ text, file: file || undefined, options, secret: consent ? undefined : secret, consent }, (result) => setResults((before) => [...before, result]))
    } catch (error) {
      setWrong(error)
    } finally {
      setRunning(false)
    }
  }
  const sum = results.at(-1)?.sum
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault()
        if (provider.consents.length === 0 || values['sign-in']) void run()
      }}
    >
      <h2 className="text-large font-semibold">Try it</h2>
      <p className="text-soft">Every operation of the definition is tested in a scratch folder of a live account. The folder is deleted at the end.</p>
      {provider.options.map((option) =>
        option.secret ? (
          <Field key="secret" label={option.title} type="password" autoComplete="new-password" value={secret} onChange={(event) => setSecret(event.target.value)} />
        ) : (
          <Field key={option.name} label={option.title} help={option.help} placeholder={option.default} required={option.required} value={values[option.name] ?? ''} onChange={(event) => setValues({ ...values, [option.name]: event.target.value })} mono />
        ),
      )}
      {offered.length > 0 ? (
        <ConsentSteps title={provider.title} offered={offered} asked={() => ({ provider: provider.name, name: 'trial', options, secret, definition: text })} onEnded={(consent) => void run(consent.id)} />
      ) : (
        <div>
          <Button look="first" type="submit" disabled={running}>
            {running ? 'Trying…' : 'Try it'}
          </Button>
        </div>
      )}
      {Boolean(wrong) && <Failed error={wrong} />}
      {results.length > 0 && (
        <ul aria-label="What was tried" className="grid gap-1">
          {results.filter((result) => result.part).map((result) => (
            <li key={result.part}>
              <span className={result.outcome === 'works' ? 'text-reed' : result.outcome === 'fails' ? 'text-brick' : 'text-soft'}>
                {result.outcome === 'works' ? '✓' : result.outcome === 'fails' ? '✗' : '·'} {result.outcome}
              </span>{' '}
              {result.part}
              {result.outcome === 'fails' && <Failing result={result} />}
            </li>
          ))}
        </ul>
      )}
      {sum && (
        <p role="status" className={sum.fails > 0 ? 'text-brick' : 'text-reed'}>
          {sum.works} work, {sum.fails} fail{sum.causes > 0 && ` of ${some(sum.causes, 'cause')}`}, {sum.not_described} are not described.
        </p>
      )}
    </form>
  )
}

function Failing({ result }: { result: TrialResult }) {
  const e = result.exchange
  const headers = (all: Record<string, string> | undefined) => Object.entries(all ?? {}).map(([name, value]) => `${name}: ${value}`).join('\n')
  return (
    <div className="my-1 border-l-2 border-brick pl-4">
      {result.notes?.map((note) => <p key={note} className="whitespace-pre-wrap">{note.split('\n').map(plain).join('\n')}</p>)}
      {result.same_as && <p className="text-soft">Same cause as: {result.same_as}</p>}
      {e && (
        <pre tabIndex={0} className="mt-1 max-h-64 overflow-auto font-mono text-small whitespace-pre-wrap">
          {[e.request, headers(e.sent), e.body, '', e.error ?? e.status, headers(e.headers), e.answer].filter((line) => line !== undefined).join('\n')}
        </pre>
      )}
    </div>
  )
}

/** Reads a trial's parts, one JSON value a line, as they come. */
async function read(trial: object, onResult: (result: TrialResult) => void) {
  const answer = await fetch('/api/v1/trials', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify(trial) })
  if (!answer.ok || !answer.body) throw new Failure(await answer.json())
  const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader()
  for (let rest = ''; ; ) {
    const { value, done } = await reader.read()
    if (done) return
    const lines = (rest + value).split('\n')
    rest = lines.pop()!
    for (const line of lines) if (line) onResult(JSON.parse(line) as TrialResult)
  }
}
