import type { components } from '../api/schema'

export type Limits = components['schemas']['Bandwidth']

/** The limits at hours of the week, one a line. */
export const hoursText = (limits: Limits) => (limits.hours ?? []).map(({ when, rate }) => `${when}: ${rate}`).join('\n')

/** Reads what hoursText writes. */
export function hoursOf(text: string): Limits['hours'] {
  const hours = text
    .split('\n')
    .filter((line) => line.trim())
    .map((line) => {
      const at = line.lastIndexOf(': ')
      return { when: line.slice(0, at < 0 ? undefined : at).trim(), rate: at < 0 ? '' : line.slice(at + 2).trim() }
    })
  return hours.length ? hours : undefined
}
