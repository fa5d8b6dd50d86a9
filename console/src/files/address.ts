// A step that a path of a URL would change: an empty one, "." or "..".
const lost = (step: string) => step === '' || step === '.' || step === '..'

/** The page of an address: /files/desk/Reports. An address that a path would change travels as a query. */
export function filesLink(address: string): string {
  const steps = address.replace(/^\//, '').split('/')
  if (address === '/') return '/files'
  if (steps.some(lost)) return `/files?${new URLSearchParams({ at: address })}`
  return `/files/${steps.map(encodeURIComponent).join('/')}`
}

/** The address that a page of files shows, or undefined for another page. */
export function addressOf(pathname: string, search: URLSearchParams): string | undefined {
  if (pathname !== '/files' && !pathname.startsWith('/files/')) return undefined
  const at = search.get('at')
  if (at !== null) return at
  const steps = pathname.slice('/files'.length).split('/').filter((step) => step !== '')
  try {
    return `/${steps.map(decodeURIComponent).join('/')}`
  } catch {
    return `/${steps.join('/')}`
  }
}

/** The addresses on the way to one, from the root, each with its last step. */
export function steps(address: string): { address: string; name: string }[] {
  const way = [{ address: '/', name: 'All accounts' }]
  if (address === '/') return way
  let at = ''
  for (const step of address.replace(/^\//, '').replace(/\/$/, '').split('/')) {
    at += `/${step}`
    way.push({ address: step === '' ? `${at}/` : at, name: step === '' ? '(no name)' : step })
  }
  return way
}

export function parent(address: string): string {
  const way = steps(address)
  return way[way.length - 2]?.address ?? '/'
}
