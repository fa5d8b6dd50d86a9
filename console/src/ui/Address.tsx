import { Fragment } from 'react'
import { plain } from './format'

/** An address that breaks between its steps, and inside a name only where there is no other place. */
export function Address({ address }: { address: string }) {
  return (
    <span className="font-mono text-small wrap-anywhere">
      {plain(address)
        .split('/')
        .map((step, i) => (
          <Fragment key={i}>
            {i > 0 && (
              <>
                <wbr />/
              </>
            )}
            {step}
          </Fragment>
        ))}
    </span>
  )
}
