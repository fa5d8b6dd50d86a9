import { useQuery } from '@tanstack/react-query'
import { api, data, type LinkEvent } from '../api/client'

export const useAccounts = () => useQuery({ queryKey: ['accounts'], queryFn: () => data(api.GET('/api/v1/accounts')) })

export const useProviders = () => useQuery({ queryKey: ['providers'], queryFn: () => data(api.GET('/api/v1/providers')), staleTime: Infinity })

/** The space of each account and together: one that is away is waited for five seconds. */
export const useSpace = () => useQuery({ queryKey: ['space'], queryFn: () => data(api.GET('/api/v1/space')), staleTime: 30_000 })

/** What happened to the link of a name, or to all of them, oldest first. */
export const useHistory = (account?: string) => useQuery({ queryKey: ['link-events', account], queryFn: () => data(api.GET('/api/v1/link-events', { params: { query: account ? { account } : {} } })) })

export const useSpeeds = (name: string) => useQuery({ queryKey: ['speeds', name], queryFn: () => data(api.GET('/api/v1/accounts/{name}/speeds', { params: { path: { name } } })) })

/** The last event of a link, whose settings are those that it ended with. */
export const lastSettings = (events: LinkEvent[]) => events[events.length - 1]

/** The links that have ended, the latest first, but for those whose name is linked again. */
export function endedLinks(events: LinkEvent[]): LinkEvent[] {
  const last = new Map<string, LinkEvent>()
  for (const event of events) last.set(event.link, event)
  const taken = new Set([...last.values()].filter((event) => event.what !== 'unlinked').map((event) => event.account))
  const byName = new Map<string, LinkEvent>()
  for (const event of last.values()) if (event.what === 'unlinked' && !taken.has(event.account)) byName.set(event.account, event)
  return [...byName.values()].reverse()
}
