import type { ButtonHTMLAttributes } from 'react'

const looks = {
  plain: 'border border-line text-ink hover:border-plumage',
  first: 'border border-plumage bg-plumage text-panel hover:opacity-90',
  danger: 'border border-brick bg-brick text-panel hover:opacity-90',
  quiet: 'text-plumage hover:underline px-1',
}

type Props = ButtonHTMLAttributes<HTMLButtonElement> & { look?: keyof typeof looks }

export function Button({ look = 'plain', className = '', ...rest }: Props) {
  return (
    <button
      type="button"
      className={`inline-flex h-8 items-center justify-center gap-2 rounded-md px-3 whitespace-nowrap disabled:opacity-50 ${looks[look]} ${className}`}
      {...rest}
    />
  )
}
