export type Place = { key: string; text: string; note: string; to: string; keys?: string; changes?: boolean }

/** The places of the console, each with the keys that lead to it. */
export const places: Place[] = [
  { key: 'overview', text: 'Overview', note: 'what needs a decision, what runs, space', to: '/', keys: 'g o' },
  { key: 'files', text: 'Files', note: 'all accounts as one tree', to: '/files', keys: 'g f' },
  { key: 'jobs', text: 'Jobs', note: 'what is copied and kept in sync', to: '/jobs', keys: 'g j' },
  { key: 'runs', text: 'Runs', note: 'what runs and ran', to: '/runs', keys: 'g r' },
  { key: 'accounts', text: 'Accounts', note: 'linked accounts and their space', to: '/accounts', keys: 'g a' },
  { key: 'settings', text: 'Settings', note: 'bandwidth, notifications, runs at once', to: '/settings', keys: 'g s' },
]

/** What can be done from anywhere. */
const actions: Place[] = [
  { key: 'job', text: 'Create a job', note: 'action', to: '/jobs/new', keys: 'c j', changes: true },
  { key: 'link', text: 'Link an account', note: 'action', to: '/accounts/link', keys: 'c a', changes: true },
  { key: 'search', text: 'Search', note: 'files by name and contents', to: '/search', keys: 'c f' },
  { key: 'compare', text: 'Compare two folders', note: 'action', to: '/compare', keys: 'c c' },
  { key: 'survey', text: 'Survey a folder', note: 'action', to: '/survey', keys: 'c s' },
  { key: 'held', text: 'Held runs', note: 'runs that wait for a decision', to: '/runs?state=held' },
  { key: 'failed', text: 'Failed runs', note: 'runs with failed items', to: '/runs?state=failed,partial' },
  { key: 'providers', text: 'Provider definitions', note: 'settings', to: '/accounts/providers' },
  { key: 'bandwidth', text: 'Bandwidth limits', note: 'settings', to: '/settings/bandwidth' },
  { key: 'runs-at-once', text: 'Runs at once', note: 'settings', to: '/settings/bandwidth' },
  { key: 'sessions', text: 'Sign-ins of browsers', note: 'settings', to: '/settings/sessions' },
  { key: 'users', text: 'Users and grants', note: 'settings', to: '/settings/users' },
  { key: 'audit', text: 'Audit log', note: 'settings', to: '/settings/audit' },
  { key: 'signin', text: 'Your password, codes and passkeys', note: 'settings', to: '/settings/signin' },
  { key: 'shares', text: 'Share links', note: 'settings', to: '/settings/shares' },
  { key: 'tokens', text: 'Tokens for programs', note: 'settings', to: '/settings/tokens' },
  { key: 'about', text: 'About this service', note: 'settings', to: '/settings/about' },
  { key: 'email', text: 'Email notifications', note: 'settings', to: '/settings/notifications' },
  { key: 'webhook', text: 'Webhook notifications', note: 'settings', to: '/settings/notifications' },
]

/** The actions that are offered to somebody who may change something, or may not. */
export const offered = (may: boolean) => actions.filter((one) => may || !one.changes)
