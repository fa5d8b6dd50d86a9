import { RadioGroup } from 'radix-ui'

type Props = { legend: string; value: string; onChange: (value: string) => void; choices: { value: string; title: string; help: string }[] }

/** One of a few, each with what it means. */
export function Choice({ legend, value, onChange, choices }: Props) {
  return (
    <fieldset>
      <legend className="text-small text-soft">{legend}</legend>
      <RadioGroup.Root value={value} onValueChange={onChange} aria-label={legend} className="mt-1 grid gap-1">
        {choices.map((choice) => (
          <label key={choice.value} className="flex items-start gap-2">
            <RadioGroup.Item value={choice.value} className="flex size-4 shrink-0 mt-0.75 items-center justify-center rounded-full border border-soft data-[state=checked]:border-plumage">
              <RadioGroup.Indicator className="size-2 rounded-full bg-plumage" />
            </RadioGroup.Item>
            <span>
              {choice.title} <span className="text-soft">{choice.help}</span>
            </span>
          </label>
        ))}
      </RadioGroup.Root>
    </fieldset>
  )
}
