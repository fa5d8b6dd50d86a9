import type { Account, Provider } from '../api/client'
import { bytes, plain } from '../ui/format'

/** What an account was linked with, but for what is so for every account there, and for what its server is known by. */
export const whereOf = (account: Pick<Account, 'options' | 'start'>, provider: Provider | undefined) =>
  Object.entries(account.options)
    .filter(([name, value]) => value && !['host-key', 'certificate'].includes(name) && value !== provider?.options.find((option) => option.name === name)?.default)
    .map(([name, value]) => `${name} ${value}`)
    .join(', ') + (account.start ? `, start ${account.start}` : '')

/** Whether accounts at a provider have a sign-in at all. */
export const signsIn = (provider: Provider | undefined) => Boolean(provider && (provider.consents.length > 0 || provider.options.some((option) => option.secret)))

/** What was found at an account when it was reached. */
export function Found({ account }: { account: Account }) {
  const found = account.found
  if (!found) return null
  const space = found.space
  const rows: [string, string][] = [
    ['Owner', found.owner || 'not reported by the provider'],
    ['Space', space.used < 0 && space.free < 0 ? 'not reported by the provider' : space.total < 0 && space.free < 0 ? `${bytes(space.used)} used, no limit reported` : `${bytes(space.used)} used, ${bytes(space.free)} free of ${bytes(space.total)}`],
    ...(account.options['host-key'] ? [['Host key', account.options['host-key']] as [string, string]] : []),
    ...(found.areas && found.areas.length > 1 ? [['Areas', found.areas.map((area) => plain(area)).join(', ')] as [string, string]] : []),
    ['Top folders', found.folders.map((name) => plain(name)).join(', ') || 'none'],
  ]
  return (
    <div role="status" className="flex gap-x-8">
      <p className="whitespace-nowrap text-reed">✓ reached</p>
      <dl className="flex flex-wrap gap-x-8 gap-y-2">
        {rows.map(([term, text]) => (
          <div key={term}>
            <dt className="text-small text-soft">{term}</dt>
            <dd className="wrap-anywhere">{text}</dd>
          </div>
        ))}
      </dl>
    </div>
  )
}
