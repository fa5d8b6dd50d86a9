import { failureOf } from '../api/client'

/** Calls take with each line of an answer that comes in bit by bit. */
export async function follow(url: string, signal: AbortSignal, take: (line: string) => void) {
  const response = await fetch(url, { signal })
  if (!response.ok || !response.body) throw await failureOf(response)
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ''
  for (;;) {
    const { done, value } = await reader.read()
    if (done) return
    const parts = (rest + value).split('\n')
    rest = parts.pop() ?? ''
    for (const part of parts) if (part) take(part)
  }
}
