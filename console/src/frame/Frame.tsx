import { useQuery, useQueryClient } from '@tanstack/react-query'
import { type ReactNode, useEffect, useState } from 'react'
import { NavLink, Outlet, useNavigate } from 'react-router'
import { api, data, onSignedOut, type Whoami } from '../api/client'
import { LiveProvider, signedIn, useLive } from '../live/live'
import { Dialog } from '../ui/Dialog'
import { Confirm } from '../signin/Confirm'
import { SigninForm } from '../signin/SigninForm'
import { Transfers } from '../transfers/Transfers'
import { UndoProvider } from '../ui/undo'
import { UploadsProvider } from '../transfers/uploads'
import { ClipboardProvider } from '../files/clipboard'
import { PicksProvider } from '../files/picks'
import { Menu, MenuChoice, MenuItem } from '../ui/Menu'
import { CommandField } from './CommandField'
import { MayChangeProvider } from '../ui/may'
import { Keys } from './Keys'
import { places } from './places'
import { Waterline } from './Waterline'

export function Frame() {
  const navigate = useNavigate()
  const who = useQuery({ queryKey: ['whoami'], queryFn: () => data(api.GET('/api/v1/whoami')), staleTime: Infinity })
  const [signedOut, setSignedOut] = useState(false)
  const known = who.data !== undefined
  // Whoever was signed in stays at the page: what was typed there is not lost.
  useEffect(() => onSignedOut(() => (known ? setSignedOut(true) : void navigate('/signin'))), [known, navigate])
  if (!who.data) return null
  return (
    <Providers may={who.data.role !== 'viewer'}>
      <Confirm user={who.data.user} password={who.data.password} />
      {signedOut && <SigninAgain onSignedIn={() => setSignedOut(false)} />}
      <div className="flex h-full flex-col">
        <header className="border-b border-line">
          <Waterline />
          <div className="mx-auto flex min-h-12 max-w-[1600px] flex-wrap items-center gap-x-6 gap-y-1 px-4 py-2">
            <span className="font-semibold">Deft Heron</span>
            <nav aria-label="Places" className="flex flex-wrap gap-x-4">
              {places.map((place) => (
                <PlaceLink key={place.key} to={place.to}>
                  {place.text}
                </PlaceLink>
              ))}
            </nav>
            <CommandField />
            <Person who={who.data} />
          </div>
        </header>
        <main className="mx-auto flex min-h-0 w-full max-w-[1600px] flex-1 flex-col px-4">
          <Away />
          <Outlet />
        </main>
        <Transfers />
        <Keys />
      </div>
    </Providers>
  )
}

/** Waits above the page until this browser is signed in again. */
function SigninAgain({ onSignedIn }: { onSignedIn: () => void }) {
  const client = useQueryClient()
  const [tries, setTries] = useState(0)
  useEffect(() => {
    const look = async () => {
      const answer = await fetch('/api/v1/whoami').catch(() => undefined)
      if (!answer?.ok) return
      window.dispatchEvent(new Event(signedIn))
      void client.invalidateQueries()
      onSignedIn()
    }
    const timer = setInterval(() => void look(), 2_000)
    if (tries > 0) void look()
    return () => clearInterval(timer)
  }, [client, onSignedIn, tries])
  return (
    <Dialog open onClose={() => {}} title="Your sign-in has ended" description="What you have typed on this page is kept.">
      <SigninForm onSignedIn={() => setTries(tries + 1)} />
      <p className="mt-4 border-t border-line pt-4">Or open a sign-in link in another tab of this browser. This page continues automatically. For a link, on a terminal that is signed in, type</p>
      <code className="mt-2 block rounded-md border border-line bg-ground px-3 py-2 font-mono text-small">heron signin --console</code>
    </Dialog>
  )
}

/** What lasts while one goes from page to page. */
function Providers({ may, children }: { may: boolean; children: ReactNode }) {
  return (
    <MayChangeProvider may={may}>
      <LiveProvider>
        <UploadsProvider>
          <PicksProvider>
            <ClipboardProvider>
              <UndoProvider>{children}</UndoProvider>
            </ClipboardProvider>
          </PicksProvider>
        </UploadsProvider>
      </LiveProvider>
    </MayChangeProvider>
  )
}

function PlaceLink({ to, children }: { to: string; children: string }) {
  return (
    <NavLink to={to} end={to === '/'} className={({ isActive }) => (isActive ? 'border-b-2 border-plumage' : 'border-b-2 border-transparent text-soft hover:text-ink')}>
      {children}
    </NavLink>
  )
}

function Away() {
  const { connected } = useLive()
  if (connected) return null
  return (
    <p role="status" className="py-1 text-ochre">
      The service does not answer. What is shown may be out of date. The page reconnects automatically.
    </p>
  )
}

function Person({ who }: { who: Whoami }) {
  const navigate = useNavigate()
  const client = useQueryClient()
  const [theme, setTheme] = useState(() => document.documentElement.dataset.theme ?? 'system')
  const choose = (next: string) => {
    setTheme(next)
    if (next === 'system') {
      delete document.documentElement.dataset.theme
      localStorage.removeItem('heron-theme')
    } else {
      document.documentElement.dataset.theme = next
      localStorage.setItem('heron-theme', next)
    }
  }
  const leave = () =>
    void api.DELETE('/api/v1/session').finally(() => {
      client.clear()
      void navigate('/signin')
    })
  return (
    <Menu label={who.user}>
      <MenuChoice value={theme} onChange={choose} choices={[['system', 'As the system'], ['light', 'Light'], ['dark', 'Dark']]} />
      <div className="my-1 border-t border-line" />
      <MenuItem onSelect={() => void navigate('/settings/signin')}>Your sign-in</MenuItem>
      <MenuItem onSelect={leave}>Sign out</MenuItem>
    </Menu>
  )
}
