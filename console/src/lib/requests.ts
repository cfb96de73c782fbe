/** What lists of requests share: the one scale of their strips. */
import { niceEnd } from './scale'

/** The end of the scale that holds these requests, in milliseconds; one that took very long is cut, so that the others can be read. */
export function spanOfStrips(requests: readonly { whole_ms: number }[]): number {
  const times = requests.map((request) => request.whole_ms).sort((a, b) => a - b)
  const most = times.at(-1) ?? 0
  const middle = times[Math.floor(times.length * 0.9)] ?? most
  return Math.max(1_000, niceEnd(Math.min(most, middle * 3)))
}

/** `0 to 6 s`. */
export function spanWords(ms: number): string {
  return ms % 1_000 === 0 ? `0 to ${ms / 1_000} s` : `0 to ${(ms / 1_000).toFixed(1)} s`
}
