import { type QueryClient, useQueryClient } from '@tanstack/react-query'
import { createContext, type ReactNode, useContext, useEffect, useRef, useState } from 'react'
import { useLocation } from 'react-router'
import type { Progress, Run } from '../api/client'

type Live = { connected: boolean; progress: Progress; rates: number[] }

const idle: Progress = { rate: 0, running: [], runs: [], transfers: [] }
const LiveContext = createContext<Live>({ connected: false, progress: idle, rates: [] })

/** What happens now: one stream of events for the window. */
export const useLive = () => useContext(LiveContext)

/** An event of the window: this browser is signed in again. */
export const signedIn = 'heron-signed-in'

const samples = 300
const sampleEvery = 2000
const hiddenFor = 20_000

/** Whose progress a page shows: that of all runs, of one, or of none. The rate of everything is always told. */
function runsOf(pathname: string): string {
  const [, place = '', id] = pathname.split('/')
  if (place === 'runs' && id) return id
  return ['', 'runs', 'jobs'].includes(place) ? 'all' : 'none'
}

export function LiveProvider({ children }: { children: ReactNode }) {
  const client = useQueryClient()
  const runs = runsOf(useLocation().pathname)
  const wanted = useRef(runs)
  const reopen = useRef(() => {})
  useEffect(() => {
    if (wanted.current === runs) return
    wanted.current = runs
    reopen.current()
  }, [runs])
  const [live, setLive] = useState<Live>({ connected: true, progress: idle, rates: Array(samples).fill(0) })

  useEffect(() => {
    let latest = idle
    let heard = 0
    let events: EventSource | undefined
    let last = '' // the id of the event that was heard last, after which a new stream begins
    let hidden: ReturnType<typeof setTimeout> | undefined
    // Browsers allow six connections to a service: a window that nobody sees gives its own back.
    const leave = () => {
      events?.close()
      events = undefined
    }
    const listen = () => {
      if (events) return
      events = new EventSource(`/api/v1/live?${new URLSearchParams({ runs: wanted.current, last })}`)
      const hear = (name: string, then: (event: MessageEvent<string>) => void) =>
        events!.addEventListener(name, (event) => {
          if (event.lastEventId) last = event.lastEventId
          then(event)
        })
      events.onopen = () => setLive((now) => ({ ...now, connected: true }))
      events.onerror = () => setLive((now) => ({ ...now, connected: false }))
      hear('again', () => {
        void client.invalidateQueries()
        void fetch('/api/v1/rates')
          .then((answer) => (answer.ok ? answer.json() : { rates: null }))
          .then(({ rates }: { rates: number[] | null }) => rates && setLive((now) => ({ ...now, rates })))
          .catch(() => {}) // the line begins empty then
      })
      hear('accounts', () => {
        for (const queryKey of [['folder', '/'], ['accounts'], ['space'], ['workers']]) void client.invalidateQueries({ queryKey })
      })
      hear('folder', (event) => void client.invalidateQueries({ queryKey: ['folder', JSON.parse(event.data) as string] }))
      hear('job', () => void client.invalidateQueries({ queryKey: ['jobs'] }))
      hear('run', (event) => {
        const run = JSON.parse(event.data) as Run
        keep(client, run, true)
        if (!run.ended) return
        const runs = latest.runs.filter((other) => other.id !== run.id)
        const running = latest.running.filter((other) => other !== run.id)
        const rate = running.length === 0 ? 0 : Math.max(0, latest.rate - (latest.runs.find((other) => other.id === run.id)?.now?.rate ?? 0))
        latest = { ...latest, runs, running, rate }
        setLive((now) => ({ ...now, progress: latest }))
      })
      hear('progress', (event) => {
        latest = JSON.parse(event.data) as Progress
        heard = Date.now()
        for (const run of latest.runs) keep(client, run, false)
        setLive((now) => ({ ...now, connected: true, progress: latest }))
      })
    }
    const onVisibility = () => {
      clearTimeout(hidden)
      if (document.visibilityState === 'visible') listen()
      else hidden = setTimeout(leave, hiddenFor)
    }
    reopen.current = () => {
      if (!events) return // it is opened when the window is seen again
      leave()
      listen()
    }
    listen()
    document.addEventListener('visibilitychange', onVisibility)
    window.addEventListener('pagehide', leave)
    window.addEventListener('pageshow', listen)
    const reconnect = () => {
      leave() // it has ended for good, with the sign-in
      listen()
    }
    window.addEventListener(signedIn, reconnect)
    const sampling = setInterval(() => {
      if (Date.now() - heard > sampleEvery) latest = idle
      setLive((now) => ({ ...now, progress: latest, rates: [...now.rates.slice(1), latest.rate] }))
    }, sampleEvery)
    return () => {
      clearInterval(sampling)
      clearTimeout(hidden)
      document.removeEventListener('visibilitychange', onVisibility)
      window.removeEventListener('pagehide', leave)
      window.removeEventListener('pageshow', listen)
      window.removeEventListener(signedIn, reconnect)
      leave()
    }
  }, [client])

  return <LiveContext.Provider value={live}>{children}</LiveContext.Provider>
}

/** Keeps what came, unless what is known already has ended. */
function keep(client: QueryClient, run: Run, changed: boolean) {
  client.setQueryData<Run>(['run', run.id], (known) => (known?.ended && !run.ended && !changed ? known : run))
  if (changed) {
    void client.invalidateQueries({ queryKey: ['runs'] })
    void client.invalidateQueries({ queryKey: ['jobs'] })
    void client.invalidateQueries({ queryKey: ['items', run.id] })
    void client.invalidateQueries({ queryKey: ['causes', run.id] })
    if (run.ended) void client.invalidateQueries({ queryKey: ['folder'] })
  }
}
