import { Checkbox as Primitive } from 'radix-ui'

const look = 'flex size-4 shrink-0 items-center justify-center rounded-[4px] border border-soft data-[state=checked]:border-plumage data-[state=checked]:bg-plumage data-[state=indeterminate]:border-plumage'

const check = (
  <svg viewBox="0 0 16 16" className="size-3" aria-hidden="true">
    <path d="M3 8.5l3.5 3.5L13 4.5" fill="none" stroke="currentColor" strokeWidth="2.4" />
  </svg>
)

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
      className={look}
    >
      <Primitive.Indicator className="text-panel">
        {checked === 'indeterminate' ? (
          <span className="block h-0.5 w-2 bg-plumage" />
        ) : (
          check
        )}
      </Primitive.Indicator>
    </Primitive.Root>
  )
}

/** The same in a row of a long list, of which many come and go: an element alone. */
export function RowCheckbox({ checked, onChange, label }: { checked: boolean; onChange: (checked: boolean, shift: boolean) => void; label: string }) {
  return (
    <button
      type="button"
      role="checkbox"
      aria-checked={checked}
      aria-label={label}
      data-state={checked ? 'checked' : 'unchecked'}
      tabIndex={-1}
      onClick={(event) => {
        event.stopPropagation()
        onChange(!checked, event.shiftKey)
      }}
      className={`${look} text-panel`}
    >
      {checked && check}
    </button>
  )
}
