/** Ranges of time by name: what the address holds, and the instants that it stands for. UTC throughout. */

export interface Span {
  from: Date
  to: Date
}

export const RANGES = ['1h', '24h', 'today', 'yesterday', '7d', '30d', 'month'] as const
export type RangeName = (typeof RANGES)[number]

const HOUR = 3_600_000
const DAY = 24 * HOUR

export const RANGE_WORDS: Record<RangeName, string> = {
  '1h': 'last hour',
  '24h': 'last 24 hours',
  today: 'today',
  yesterday: 'yesterday',
  '7d': '7 days, today included',
  '30d': '30 days, today included',
  month: 'this month',
}

export function isRangeName(text: string | undefined): text is RangeName {
  return RANGES.some((name) => name === text)
}

function midnight(at: Date): number {
  return Math.floor(at.getTime() / DAY) * DAY
}

/** The span of a name at `now`; those that are still going on end with the second that has begun, so that they stay equal for it. */
export function spanOf(name: RangeName, now: Date): Span {
  const today = midnight(now)
  const end = Math.ceil(now.getTime() / 1_000) * 1_000
  const span = (from: number, to = end) => ({ from: new Date(from), to: new Date(Math.max(to, from + 1_000)) })
  switch (name) {
    case '1h':
      return span(end - HOUR)
    case '24h':
      return span(end - DAY)
    case 'today':
      return span(today)
    case 'yesterday':
      return span(today - DAY, today)
    case '7d':
      return span(today - 6 * DAY)
    case '30d':
      return span(today - 29 * DAY)
    case 'month':
      return span(Date.UTC(now.getUTCFullYear(), now.getUTCMonth(), 1))
  }
}

/** Days for a long span, hours for a short one. */
export function stepOf(span: Span): 'hour' | 'day' {
  return span.to.getTime() - span.from.getTime() <= 3 * DAY ? 'hour' : 'day'
}
