import { useQuery } from '@tanstack/react-query'
import { api, data } from '../api/client'
import type { components } from '../api/schema'

export type Job = components['schemas']['Job']
export type JobSpec = components['schemas']['Spec']
export type When = components['schemas']['When']

export const useJobs = () => useQuery({ queryKey: ['jobs'], queryFn: () => data(api.GET('/api/v1/jobs')) })

const open = ['queued', 'running', 'paused']

/** Asked again while its last run is open, so that the page says when it ended. */
export const useJob = (name: string) =>
  useQuery({
    queryKey: ['jobs', name],
    queryFn: () => data(api.GET('/api/v1/jobs/{name}', { params: { path: { name } } })),
    enabled: name !== '',
    refetchInterval: (query) => (open.includes(query.state.data?.last?.state ?? '') ? 1000 : false),
  })

/** The arrow between the two ends of a route. */
export const arrow = (type: string) => (type === 'two-way' ? '↔' : '→')

/** When a job runs automatically, in words. */
export function whenWords(when: When): string {
  const words = when.continuous
    ? 'continuously'
    : when.arrival
      ? `for each ${when.arrival} that arrives, once it is complete`
      : when.now
      ? 'once, when it was created'
      : when.at
        ? `once, at ${when.at}`
        : when.every
          ? `every ${when.every}`
          : when.weekly
            ? `weekly, ${when.weekly}`
            : when.cron
              ? `by the timetable ${when.cron}`
              : 'when you start it'
  return `${words}${when.hours ? `, within ${when.hours}` : ''}${when.zone ? ` (${when.zone})` : ''}`
}
