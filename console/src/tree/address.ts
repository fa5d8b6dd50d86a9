/** Where the tree shows an address. It travels as a query, since a path would lose ".." and "//". */
export const treeLink = (address: string) => (address === '/' ? '/tree' : `/tree?${new URLSearchParams({ at: address })}`)

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
