import { Dialog as Primitive } from 'radix-ui'
import type { ReactNode } from 'react'

type Props = { open: boolean; onClose: () => void; title: string; description: ReactNode; children: ReactNode }

/** A question or a form that floats above the page. */
export function Dialog({ open, onClose, title, description, children }: Props) {
  return (
    <Primitive.Root open={open} onOpenChange={(next) => !next && onClose()}>
      <Primitive.Portal>
        <Primitive.Overlay className="fixed inset-0 z-20 bg-ink/30" />
        <Primitive.Content className="fixed top-24 left-1/2 z-30 max-h-[80vh] w-[min(640px,calc(100vw-32px))] -translate-x-1/2 overflow-auto rounded-md border border-line bg-panel p-6 shadow-lg">
          <Primitive.Title className="text-large font-semibold">{title}</Primitive.Title>
          <Primitive.Description asChild>
            <div className="mt-1 text-soft">{description}</div>
          </Primitive.Description>
          <div className="mt-4">{children}</div>
        </Primitive.Content>
      </Primitive.Portal>
    </Primitive.Root>
  )
}
