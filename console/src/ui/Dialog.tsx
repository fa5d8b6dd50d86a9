import { Dialog as Primitive } from 'radix-ui'
import type { ReactNode } from 'react'

type Props = { open: boolean; onClose: () => void; title: string; description: ReactNode; wide?: boolean; children: ReactNode }

/** A question, a form or a file that floats above the page. */
export function Dialog({ open, onClose, title, description, wide, children }: Props) {
  const size = wide ? 'top-8 h-[calc(100vh-64px)] w-[min(1200px,calc(100vw-32px))] flex flex-col' : 'top-24 max-h-[80vh] w-[min(640px,calc(100vw-32px))] overflow-auto'
  return (
    <Primitive.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Primitive.Portal>
        <Primitive.Overlay className="fixed inset-0 z-20 bg-ink/30" />
        <Primitive.Content className={`fixed left-1/2 z-30 -translate-x-1/2 rounded-md border border-line bg-panel p-6 shadow-lg ${size}`}>
          <Primitive.Title className="text-large font-semibold break-words">{title}</Primitive.Title>
          <Primitive.Description asChild>
            <div className="mt-1 text-soft">{description}</div>
          </Primitive.Description>
          <div className={wide ? 'mt-4 flex min-h-0 flex-1 flex-col' : 'mt-4'}>{children}</div>
        </Primitive.Content>
      </Primitive.Portal>
    </Primitive.Root>
  )
}
