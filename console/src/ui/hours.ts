import type { components } from '../api/schema'

export type Limits = components['schemas']['Pace']

/** The rates at hours of the week, a line each. */
export const hoursText = (limits: Limits) =>
  Object.entries(limits.hours ?? {})
    .map(([when, rate]) => `${when}: ${rate}`)
    .join('\n')

/** What hoursText shows, read again. */
export function hoursOf(text: string): Limits['hours'] {
  const hours: Record<string, string> = {}
  for (const line of text.split('\n')) {
    const at = line.lastIndexOf(': ')
    if (line.trim()) hours[line.slice(0, at < 0 ? undefined : at).trim()] = at < 0 ? '' : line.slice(at + 2).trim()
  }
  return Object.keys(hours).length ? hours : undefined
}
