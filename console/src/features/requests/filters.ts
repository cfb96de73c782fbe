/** The filters of the list of requests: what the address holds, and what is asked of the service. */
import type { RequestsQuery } from '@/api/resources'
import { isRangeName, spanOf } from '@/lib/range'

export const ENDS = [
  'proper',
  'output-cap',
  'cancelled',
  'cut-off',
  'rejected',
  'not-answered',
  'not-taken',
  'abandoned',
] as const

export const FAILURES = [
  'unreachable',
  'timed-out',
  'rate-limited',
  'overloaded',
  'loading',
  'server-error',
  'misconfigured',
  'rejected',
  'too-long',
  'declined',
  'malformed',
  'cut-off',
] as const

/** Filters that go to the service as they stand in the address. */
export const PLAIN = [
  'team',
  'route',
  'offer',
  'upstream',
  'key',
  'run',
  'label',
  'end',
  'failure',
  'tried',
  'attempts',
  'after',
] as const

export const PAGE = 50

/** What is asked, by the address. A range of its own (`from`, `to`) comes with links behind figures. */
export function queryOf(read: (name: string) => string, now: Date): RequestsQuery {
  const query: RequestsQuery = { limit: PAGE }
  for (const name of PLAIN) {
    const value = read(name)
    if (value) query[name] = value
  }
  const [range, from, to] = [read('range'), read('from'), read('to')]
  if (isRangeName(range)) {
    const span = spanOf(range, now)
    query.from = span.from.toISOString()
    query.to = span.to.toISOString()
  } else {
    if (from) query.from = from
    if (to) query.to = to
  }
  return query
}

/** What narrows the list, in words. */
export function isNarrowed(read: (name: string) => string): boolean {
  return ['range', 'from', 'to', ...PLAIN].some((name) => read(name) !== '')
}
