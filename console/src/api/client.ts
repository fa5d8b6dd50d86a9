import createClient, { type Middleware } from 'openapi-fetch'
import { learnClock } from './clock'
import type { components, paths } from './schema'

export type Entry = components['schemas']['Entry']
export type AccountUsage = components['schemas']['AccountUsage']
export type Run = components['schemas']['Run']
export type RunSeries = components['schemas']['RunSeries']
export type RunEvent = components['schemas']['RunEvent']
export type Item = components['schemas']['Item']
export type Plan = components['schemas']['Plan']
export type Progress = components['schemas']['Progress']
export type Account = components['schemas']['Account']
export type Provider = components['schemas']['Provider']
export type Consent = components['schemas']['Consent']
export type Consenting = components['schemas']['Consenting']
export type TrialResult = components['schemas']['TrialResult']
export type Resources = components['schemas']['Resources']
export type Identity = components['schemas']['Identity']
export type LinkEvent = components['schemas']['LinkEvent']
export type Speed = components['schemas']['Speed']
export type Option = components['schemas']['Option']
export type Space = components['schemas']['Space']
export type Quantity = components['schemas']['Quantity']
export type Removed = components['schemas']['Removed']
export type Count = components['schemas']['Count']
export type Compared = components['schemas']['Compared']
export type Summary = components['schemas']['Summary']
export type Transfer = components['schemas']['Transfer']
export type User = components['schemas']['User']
export type Grant = components['schemas']['Grant']
export type Token = components['schemas']['Token']
export type AuditEntry = components['schemas']['AuditEntry']
export type Whoami = components['schemas']['Whoami']
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

let signInAgain: () => Promise<boolean> = () => Promise.resolve(false)

/** Says how somebody signs in again before what needs a fresh sign-in; true if they have. */
export function onSignInAgain(ask: () => Promise<boolean>) {
  signInAgain = ask
}

/** Requests that are under way, to be repeated after a fresh sign-in. */
const repeatable = new Map<string, Request>()

const failures: Middleware = {
  onRequest({ id, request }) {
    if (request.method !== 'GET') repeatable.set(id, request.clone())
  },
  async onResponse({ id, request, response }) {
    learnClock(response)
    const again = repeatable.get(id)
    repeatable.delete(id)
    if (response.ok) return
    // A wrong password says nothing about whoever is signed in.
    if (response.status === 401 && !/\/api\/v1\/session(\/|$)/.test(new URL(request.url).pathname)) whenSignedOut()
    const failure = await failureOf(response)
    if (failure.problem.cause !== 'sign-in-again' || !again || !(await signInAgain())) throw failure
    const repeated = await fetch(again)
    if (!repeated.ok) throw await failureOf(repeated)
    return repeated
  },
  onError({ id }) {
    repeatable.delete(id)
    return new Failure({
      title: 'Away', status: 0, detail: 'The service does not answer.', remedy: 'Check that it runs; what is shown may be old.',
    })
  },
}

export const api = createClient<paths>({ baseUrl: '', querySerializer: { array: { style: 'form', explode: false } } })
api.use(failures)

/** The data of an answer; failures were thrown already. */
export async function data<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T
}

/** Where a file's content is read from. */
export const contentUrl = (address: string, more: Record<string, string> = {}) => `/api/v1/content?${new URLSearchParams({ address, ...more })}`

/** A revision as the service's entity tag for it: its bytes in base64 for URLs. */
export const entityTag = (revision: string) =>
  `"${btoa(String.fromCharCode(...new TextEncoder().encode(revision))).replaceAll('+', '-').replaceAll('/', '_').replaceAll('=', '')}"`

/** A failure of an answer that was not asked for by way of api. */
export async function failureOf(response: Response): Promise<Failure> {
  const problem = (await response.json().catch(() => null)) as Problem | null
  return new Failure(problem?.detail ? problem : { title: 'Failed', status: response.status, detail: `The service answered ${response.status}.`, remedy: 'Look into its log.' })
}
