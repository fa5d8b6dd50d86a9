import { useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, data } from '../api/client'
import { Failed } from '../ui/Banner'
import { Button } from '../ui/Button'
import { Checkbox } from '../ui/Checkbox'
import { saveText } from '../ui/file'

/** Makes a key, for who has none yet: it is saved as a file here, and used for the place. */
export function NewKey({ name, onKey }: { name: string; onKey: (identity: string) => void }) {
  const make = useMutation({
    mutationFn: async () => {
      const key = await data(api.POST('/api/v1/keys'))
      saveText(`${name || 'sealed'}-key.txt`, key.identity)
      onKey(key.identity)
      return key
    },
  })
  return (
    <div className="grid gap-1">
      <Button className="w-fit" onClick={() => make.mutate()} disabled={make.isPending}>
        Make a new key
      </Button>
      {make.data && (
        <p role="status" className="text-small text-soft">
          A new key is chosen, and your browser saved it as a file. Its public key is <span className="font-mono wrap-anywhere">{make.data.recipient}</span>.
        </p>
      )}
      {make.isError && <Failed error={make.error} />}
    </div>
  )
}

const sheetOf = (name: string, folder: string, key: string | undefined, recipients: string | undefined) =>
  [
    `KEY SHEET of the sealed place ${name}`,
    '',
    `Folder at the provider   ${folder}`,
    `Written                  ${new Date().toLocaleString()}`,
    '',
    ...(key
      ? ['The key. Whoever has it can read everything in the place.', '', key.trim()]
      : ['The place opens with a passphrase. Write it here by hand:', '', '_'.repeat(60), '', 'The passphrase protects the file identity.age in the folder at the provider, which is the key.']),
    ...(recipients ? ['', `These keys open it too   ${recipients}`] : []),
    '',
    'To read the place: link it again with this key, or, without Deft Heron: every file in it is an age file',
    '(age-encryption.org/v1). Decrypt the manifests below "folders" with',
    '    age -d -i KEYFILE folders/ID/NUMBER.age',
    'They name each file and say where its content is below "contents". The file place.age says which folder is the first.',
    '',
  ].join('\n')

type SheetProps = { name: string; folder: string; identity?: string; recipients?: string; onKept: (kept: boolean) => void }

/** What is needed on the day when nothing else is left. A new place is made only once it is kept. */
export function KeySheet({ name, folder, identity, recipients, onKept }: SheetProps) {
  const [saved, setSaved] = useState(false)
  const [kept, setKept] = useState(false)
  const keep = (now: boolean) => {
    setKept(now)
    onKept(now)
  }
  return (
    <div className="grid gap-3 border-l-2 border-ochre py-1 pl-4">
      <p>
        A new sealed place will be made in <span className="font-mono text-small">{folder}</span>. Without its key nobody can read what is in it, the provider included.
      </p>
      <p>Files in a sealed place cannot be opened or edited at the provider: use it as a copy, not as a place to work in.</p>
      <Button
        className="w-fit"
        onClick={() => {
          saveText(`${name}-key-sheet.txt`, sheetOf(name, folder, identity, recipients))
          setSaved(true)
        }}
      >
        Save the key sheet
      </Button>
      <label className="flex items-center gap-2">
        <Checkbox checked={kept} onChange={(now) => saved && keep(now)} label="The key sheet is kept" />
        <span>
          The key sheet is kept <span className="text-soft">{saved ? 'on paper, or where neither this machine nor the provider can lose it' : 'save it first'}</span>
        </span>
      </label>
    </div>
  )
}
