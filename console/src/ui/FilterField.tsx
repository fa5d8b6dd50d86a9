import { useEffect, useRef, useState } from 'react'
import { Field } from './Field'
import { useSettled } from './settled'

type Props = { label: string; value: string; onChange: (value: string) => void; mono?: boolean; placeholder?: string; className?: string }

/**
 * A text that filters. What is typed is shown at once, and is told once it rests: the address of
 * the page, which keeps it, changes more slowly than a person types.
 */
export function FilterField({ value, onChange, ...rest }: Props) {
  const [typed, setTyped] = useState(value)
  const settled = useSettled(typed)
  const told = useRef(value)
  useEffect(() => {
    if (settled === told.current) return
    told.current = settled
    onChange(settled)
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [settled])
  useEffect(() => {
    if (value === told.current) return
    told.current = value // changed elsewhere: cleared, or the page of another address
    setTyped(value)
  }, [value])
  return <Field {...rest} value={typed} onChange={(event) => setTyped(event.target.value)} />
}
