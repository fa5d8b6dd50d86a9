const key = 'heron-targets'
const most = 5

/** The targets that were chosen last, the latest first. */
export function recentTargets(): string[] {
  try {
    return (JSON.parse(localStorage.getItem(key) ?? '[]') as string[]).slice(0, most)
  } catch {
    return []
  }
}

/** Keeps a target that something was started for. */
export function keepTarget(address: string) {
  localStorage.setItem(key, JSON.stringify([address, ...recentTargets().filter((other) => other !== address)].slice(0, most)))
}
