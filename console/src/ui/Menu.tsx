import { DropdownMenu } from 'radix-ui'
import type { ReactNode } from 'react'

export function Menu({ label, boxed, children }: { label: ReactNode; boxed?: boolean; children: ReactNode }) {
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className={`inline-flex h-8 items-center gap-1.5 rounded-md ${boxed ? 'border border-line px-3 hover:border-plumage' : 'px-2 text-soft hover:text-ink'}`}>{label}</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={4} className="z-30 min-w-48 rounded-md border border-line bg-panel p-1 shadow-lg">
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  )
}

export function MenuItem({ onSelect, disabled, children }: { onSelect: () => void; disabled?: boolean; children: ReactNode }) {
  return (
    <DropdownMenu.Item onSelect={onSelect} disabled={disabled} className="flex h-8 cursor-pointer items-center rounded-md px-2 data-disabled:opacity-50 data-highlighted:bg-ground">
      {children}
    </DropdownMenu.Item>
  )
}

export function MenuChoice({ value, onChange, choices }: { value: string; onChange: (value: string) => void; choices: [string, string][] }) {
  return (
    <DropdownMenu.RadioGroup value={value} onValueChange={onChange}>
      {choices.map(([key, title]) => (
        <DropdownMenu.RadioItem key={key} value={key} className="flex h-8 cursor-pointer items-center gap-2 rounded-md px-2 data-highlighted:bg-ground">
          <span className="w-4">
            <DropdownMenu.ItemIndicator>✓</DropdownMenu.ItemIndicator>
          </span>
          {title}
        </DropdownMenu.RadioItem>
      ))}
    </DropdownMenu.RadioGroup>
  )
}
