const shapes: Record<string, { colour: string; shape: React.ReactNode }> = {
  sending: { colour: 'text-plumage', shape: <path d="M8 13V3M4 7l4-4 4 4" fill="none" stroke="currentColor" strokeWidth="1.8" /> },
  queued: { colour: 'text-soft', shape: <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="1.6" /> },
  waiting: { colour: 'text-soft', shape: <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="1.6" /> },
  running: {
    colour: 'text-plumage',
    shape: (
      <>
        <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="1.6" />
        <path d="M8 2.5 A5.5 5.5 0 0 1 8 13.5 Z" fill="currentColor" />
      </>
    ),
  },
  paused: { colour: 'text-soft', shape: <path d="M5.5 3v10M10.5 3v10" stroke="currentColor" strokeWidth="2" /> },
  held: { colour: 'text-ochre', shape: <rect x="2" y="5" width="12" height="4" rx="1" fill="currentColor" /> },
  done: { colour: 'text-reed', shape: <path d="M3.5 8.5l3 3 6-7" fill="none" stroke="currentColor" strokeWidth="2" /> },
  partial: { colour: 'text-ochre', shape: <path d="M3.5 8.5l3 3M8.6 9.2l3.9-4.7" fill="none" stroke="currentColor" strokeWidth="2" /> },
  failed: { colour: 'text-brick', shape: <path d="M4 4l8 8M12 4l-8 8" stroke="currentColor" strokeWidth="2" /> },
  cancelled: {
    colour: 'text-soft',
    shape: (
      <>
        <circle cx="8" cy="8" r="5.5" fill="none" stroke="currentColor" strokeWidth="1.6" />
        <path d="M4.2 11.8l7.6-7.6" stroke="currentColor" strokeWidth="1.6" />
      </>
    ),
  },
  linked: { colour: 'text-reed', shape: <path d="M3.5 8.5l3 3 6-7" fill="none" stroke="currentColor" strokeWidth="2" /> },
  connected: { colour: 'text-reed', shape: <path d="M3.5 8.5l3 3 6-7" fill="none" stroke="currentColor" strokeWidth="2" /> },
  draining: { colour: 'text-soft', shape: <path d="M8 3v10M4 9l4 4 4-4" fill="none" stroke="currentColor" strokeWidth="1.8" /> },
  offline: { colour: 'text-ochre', shape: <path d="M2 8h4M10 8h4" stroke="currentColor" strokeWidth="2" /> },
  untrusted: { colour: 'text-brick', shape: <path d="M4 4l8 8M12 4l-8 8" stroke="currentColor" strokeWidth="2" /> },
  outdated: { colour: 'text-ochre', shape: <rect x="2" y="5" width="12" height="4" rx="1" fill="currentColor" /> },
  unreachable: { colour: 'text-ochre', shape: <path d="M2 8h4M10 8h4" stroke="currentColor" strokeWidth="2" /> },
  'sign-in-expired': { colour: 'text-ochre', shape: <rect x="2" y="5" width="12" height="4" rx="1" fill="currentColor" /> },
  suspended: { colour: 'text-soft', shape: <path d="M5.5 3v10M10.5 3v10" stroke="currentColor" strokeWidth="2" /> },
  warning: { colour: 'text-ochre', shape: <path d="M8 2.5l6 11H2zM8 6.5v3.5M8 11.6v1" fill="none" stroke="currentColor" strokeWidth="1.6" /> },
  skipped: { colour: 'text-soft', shape: <path d="M4 8h8" stroke="currentColor" strokeWidth="2" /> },
}

/** A state: a word with a shape of its own, colour third. */
export function State({ state }: { state: string }) {
  const look = shapes[state] ?? shapes.waiting!
  return (
    <span className={`inline-flex items-center gap-1.5 align-middle whitespace-nowrap ${look.colour}`} data-state={state}>
      <svg viewBox="0 0 16 16" className="size-4 shrink-0" aria-hidden="true">
        {look.shape}
      </svg>
      {state === 'sign-in-expired' ? 'sign-in expired' : state}
    </span>
  )
}
