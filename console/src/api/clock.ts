let offset = 0
const slack = 5_000

/** Learns from an answer how far the clock of this browser is from the service's. */
export function learnClock(answer: Response) {
  const date = Date.parse(answer.headers.get('Date') ?? '')
  if (Number.isNaN(date)) return
  const found = date + 500 - Date.now() // the header has whole seconds
  offset = Math.abs(found) > slack ? found : 0
}

/** The time of the service, in milliseconds since 1970: what it sends is told in it. */
export const serviceNow = () => Date.now() + offset
