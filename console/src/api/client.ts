import createClient, { type Middleware } from 'openapi-fetch'
import type { components, paths } from './schema'

export type Entry = components['schemas']['Entry']
export type Run = components['schemas']['Run']
export type Item = components['schemas']['Item']
export type Plan = components['schemas']['Plan']
export type Progress = components['schemas']['Progress']
export type Problem = components['schemas']['Problem']

/** A failure in the service's own words: what is wrong, and what to do. */
export class Failure extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
}

let whenSignedOut = () => {}

/** Says what happens when the service no longer knows this browser. */
export function onSignedOut(then: () => void) {
  whenSignedOut = then
}

const failures: Middleware = {
  async onResponse({ response }) {
    if (response.ok) return
    const problem = (await response.json().catch(() => null)) as Problem | null
    if (response.status === 401) whenSignedOut()
    throw new Failure(
      problem?.detail
        ? problem
        : { title: 'Failed', status: response.status, detail: `The service answered ${response.status}.`, remedy: 'Look into its log.' },
    )
  },
  onError() {
    return new Failure({
      title: 'Away', status: 0, detail: 'The service does not answer.', remedy: 'Check that it runs; what is shown may be old.',
    })
  },
}

export const api = createClient<paths>({ baseUrl: '' })
api.use(failures)

/** The data of an answer; failures were thrown already. */
export async function data<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T
}
