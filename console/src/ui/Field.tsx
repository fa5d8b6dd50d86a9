import type { InputHTMLAttributes, ReactNode } from 'react'

const look = 'h-8 w-full rounded-md border border-line bg-ground px-3 placeholder:text-soft aria-invalid:border-brick'

type Props = InputHTMLAttributes<HTMLInputElement> & { label: string; help?: ReactNode; wrong?: string; mono?: boolean }

/** A labelled field, with what it is for and what is wrong with it. */
export function Field({ label, help, wrong, mono, className = '', ...rest }: Props) {
  return (
    <label className={`grid gap-1 ${className}`}>
      <span className="text-small text-soft">{label}</span>
      <input spellCheck={false} autoComplete="off" aria-invalid={wrong ? true : undefined} className={`${look} ${mono ? 'font-mono text-small' : ''}`} {...rest} />
      {wrong ? <span className="text-small text-brick">{wrong}</span> : help && <span className="text-small text-soft">{help}</span>}
    </label>
  )
}

type SelectProps = { label: string; value: string; onChange: (value: string) => void; choices: { value: string; title: string }[]; help?: string }

/** One of some, by the browser's own list. */
export function SelectField({ label, value, onChange, choices, help }: SelectProps) {
  return (
    <label className="grid gap-1">
      <span className="text-small text-soft">{label}</span>
      <select value={value} onChange={(event) => onChange(event.target.value)} className={look}>
        {choices.map((choice) => (
          <option key={choice.value} value={choice.value}>
            {choice.title}
          </option>
        ))}
      </select>
      {help && <span className="text-small text-soft">{help}</span>}
    </label>
  )
}
