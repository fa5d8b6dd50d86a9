const units = ['B', 'KiB', 'MiB', 'GiB', 'TiB', 'PiB']

/** Bytes as "1.2 GiB"; a dash where unknown. */
export function bytes(n: number): string {
  if (n < 0) return '—'
  let unit = 0
  while (n >= 1024 && unit < units.length - 1) {
    n /= 1024
    unit++
  }
  return `${unit === 0 || n >= 100 ? Math.round(n) : n.toFixed(1)} ${units[unit]}`
}

export const count = (n: number) => n.toLocaleString('en')

/** "1 file" or "1,234 files". */
export function some(n: number, one: string): string {
  if (n === 1) return `1 ${one}`
  return `${count(n)} ${one.endsWith('y') ? `${one.slice(0, -1)}ies` : one.endsWith('sh') ? `${one}es` : `${one}s`}`
}

/** Local time, so that columns of it align. */
export function when(time: string | null | undefined): string {
  if (!time) return '—'
  const at = new Date(time)
  const two = (n: number) => String(n).padStart(2, '0')
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())} ${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}`
}

export function duration(seconds: number): string {
  if (seconds < 1) return 'under 1 s'
  if (seconds < 60) return `${Math.round(seconds)} s`
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ${Math.floor(seconds % 60)} s`
  return `${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`
}

/** What would move or hide text is shown, not done. */
export const plain = (name: string) =>
  name.replace(/[\p{Cc}\u200e\u200f\u202a-\u202e\u2066-\u2069]/gu, (c) => `\\u${c.codePointAt(0)!.toString(16).padStart(4, '0')}`)

/** The text with its first letter in upper case. */
export const capital = (text: string) => text.replace(/^\p{Ll}/u, (first) => first.toUpperCase())
