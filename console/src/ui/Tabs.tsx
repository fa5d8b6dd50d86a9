import { ToggleGroup } from 'radix-ui'

type Props = { label: string; value: string; onChange: (value: string) => void; choices: { value: string; title: string }[] }

/** Which of a few lists is shown. */
export function Tabs({ label, value, onChange, choices }: Props) {
  return (
    <ToggleGroup.Root type="single" aria-label={label} value={value} onValueChange={(next) => next && onChange(next)} className="flex flex-wrap gap-1 py-2">
      {choices.map((choice) => (
        <ToggleGroup.Item
          key={choice.value}
          value={choice.value}
          className="h-8 rounded-md px-3 text-soft hover:text-ink data-[state=on]:bg-panel data-[state=on]:text-ink data-[state=on]:shadow-[inset_0_0_0_1px_var(--line)]"
        >
          {choice.title}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  )
}
