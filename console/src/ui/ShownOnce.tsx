import { Button } from './Button'

/** A secret that is shown this once: to copy, and then to be done with. */
export function ShownOnce({ label, text, copy, onDone }: { label: string; text: string; copy: string; onDone: () => void }) {
  return (
    <div className="grid gap-3">
      <code aria-label={label} className="block rounded-md border border-line bg-ground px-3 py-2 font-mono text-small break-all">
        {text}
      </code>
      <div className="flex gap-3">
        <Button onClick={() => void navigator.clipboard.writeText(text)}>{copy}</Button>
        <Button look="first" onClick={onDone}>
          Done
        </Button>
      </div>
    </div>
  )
}
