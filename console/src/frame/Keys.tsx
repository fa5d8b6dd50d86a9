import { useEffect, useState } from 'react'
import { useNavigate } from 'react-router'
import { Dialog } from '../ui/Dialog'
import { offered, places } from './places'
import { useMayChange } from '../ui/may'

const others: [string, string][] = [
  ['/', 'Go to the address field; type an address, or words to find'],
  ['?', 'Show these keys'],
  ['Esc', 'Close what is open, or clear the selection'],
]

const inFiles: [string, string][] = [
  ['↑ ↓ Page Up Page Down Home End', 'Move in the list'],
  ['Enter', 'Open the folder, or look at the file'],
  ['Backspace', 'Go to the folder above'],
  ['Space', 'Select; with Shift up to here'],
  ['Ctrl A', 'Select all'],
  ['Ctrl C, Ctrl X, Ctrl V', 'Copy, cut and paste the selection'],
  ['F2', 'Rename'],
  ['Delete', 'Delete the selection'],
  ['→ ←', 'In the tree: open and close a folder'],
]

/** Keys that lead to places from anywhere: two letters after each other. */
export function Keys() {
  const navigate = useNavigate()
  const [open, setOpen] = useState(false)
  const may = useMayChange()
  useEffect(() => {
    let first = ''
    let forget: ReturnType<typeof setTimeout> | undefined
    const onKey = (event: KeyboardEvent) => {
      const busy = event.target instanceof HTMLElement && event.target.closest('input, textarea, select, [role=dialog], [role=menu], [contenteditable]')
      if (busy || event.ctrlKey || event.metaKey || event.altKey) return
      if (event.key === '?') {
        event.preventDefault()
        setOpen(true)
        return
      }
      const place = [...places, ...offered(may)].find((one) => one.keys === `${first} ${event.key}`)
      clearTimeout(forget)
      first = ''
      if (place) {
        event.preventDefault()
        void navigate(place.to)
      } else if (event.key === 'g' || event.key === 'c') {
        first = event.key
        forget = setTimeout(() => (first = ''), 1500)
      }
    }
    window.addEventListener('keydown', onKey)
    return () => {
      clearTimeout(forget)
      window.removeEventListener('keydown', onKey)
    }
  }, [navigate, may])
  return (
    <Dialog open={open} onClose={() => setOpen(false)} title="Keys" description="Two letters are pressed one after the other.">
      <div className="grid gap-x-8 gap-y-4 sm:grid-cols-2">
        <List title="Anywhere" rows={[...places, ...offered(may)].filter((one) => one.keys).map((one): [string, string] => [one.keys!, one.text]).concat(others)} />
        <List title="In Files" rows={inFiles} />
      </div>
    </Dialog>
  )
}

function List({ title, rows }: { title: string; rows: [string, string][] }) {
  return (
    <section>
      <h3 className="text-small text-soft">{title}</h3>
      <dl className="mt-1 grid gap-1">
        {rows.map(([keys, text]) => (
          <div key={keys} className="grid grid-cols-[108px_minmax(0,1fr)] gap-3">
            <dt className="font-mono text-small">{keys}</dt>
            <dd>{text}</dd>
          </div>
        ))}
      </dl>
    </section>
  )
}
