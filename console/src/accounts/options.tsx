import { Failure, type Option } from '../api/client'
import { Field, SelectField } from '../ui/Field'
import { capital } from '../ui/format'

/** A sentence, whether or not it was written as one. */
export const ended = (text: string) => capital(text).replace(/[.]?$/, '.')
export const titleOf = (option: Option) => (option.required ? option.title : `${option.title} (optional)`)

type OptionFieldProps = { option: Option; value: string; wrong?: string; onChange: (value: string) => void }

export function OptionField({ option, value, wrong, onChange }: OptionFieldProps) {
  const help = `${ended(option.help)}${option.default ? ` Left out, it is ${option.default}.` : ''}`
  if (option.choices?.length) {
    return <SelectField label={titleOf(option)} help={help} value={value || option.default || ''} onChange={onChange} choices={[...(option.default || option.required ? [] : [{ value: '', title: 'automatic' }]), ...option.choices.map((choice) => ({ value: choice, title: choice }))]} />
  }
  return <Field label={titleOf(option)} help={help} value={value} wrong={wrong} placeholder={option.default} required={option.required} onChange={(event) => onChange(event.target.value)} mono />
}

/** The content of a file, such as a private key: it is read here, and sent to be sealed. */
export function FileField({ option, chosen, wrong, onChange }: { option: Option; chosen: boolean; wrong?: string; onChange: (content: string) => void }) {
  return (
    <div>
      <Field
        label={titleOf(option)}
        help={`${ended(option.help)} ${chosen ? 'A file is chosen.' : ''} It is stored encrypted and never shown.`}
        wrong={wrong}
        type="file"
        className="[&_input]:py-1"
        onChange={(event) => void event.target.files?.[0]?.text().then(onChange)}
      />
    </div>
  )
}

/** What a failure says of one option, "--url: …", without its name. */
export function wrongOf(error: unknown): { option: string; text: string } | undefined {
  if (!(error instanceof Failure)) return undefined
  const found = /^--([a-z-]+): (.*)$/s.exec(error.problem.detail)
  if (!found) return undefined
  return { option: found[1]!, text: `${capital(found[2]!)} ${error.problem.remedy ?? ''}`.trim() }
}
