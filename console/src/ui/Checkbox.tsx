import { Checkbox as Primitive } from 'radix-ui'

type Props = { checked: boolean | 'indeterminate'; onChange: (checked: boolean, shift: boolean) => void; label: string; tabIndex?: number }

export function Checkbox({ checked, onChange, label, tabIndex }: Props) {
  return (
    <Primitive.Root
      checked={checked}
      tabIndex={tabIndex}
      aria-label={label}
      onClick={(event) => {
        event.preventDefault()
        event.stopPropagation()
        onChange(checked !== true, event.shiftKey)
      }}
      className="flex size-4 shrink-0 items-center justify-center rounded-[4px] border border-soft data-[state=checked]:border-plumage data-[state=checked]:bg-plumage data-[state=indeterminate]:border-plumage"
    >
      <Primitive.Indicator className="text-panel">
        {checked === 'indeterminate' ? (
          <span className="block h-0.5 w-2 bg-plumage" />
        ) : (
          <svg viewBox="0 0 16 16" className="size-3" aria-hidden="true">
            <path d="M3 8.5l3.5 3.5L13 4.5" fill="none" stroke="currentColor" strokeWidth="2.4" />
          </svg>
        )}
      </Primitive.Indicator>
    </Primitive.Root>
  )
}
