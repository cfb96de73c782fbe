/** Words about quotas: amounts in the unit of their measure. */
import { grouped, money } from './format'

export interface QuotaShown {
  measure: string
  window: string
  limit: string
  used: string
  reserved: string
  expected?: string | null
}

export function quotaAmount(measure: string, amount: string): string {
  return measure === 'cost' ? money(amount) : grouped(amount.split('.')[0] ?? amount)
}

/** What a gauge says, for whoever does not see it. */
export function quotaWords(quota: QuotaShown): string {
  const amount = (text: string) => quotaAmount(quota.measure, text)
  const expected = quota.expected ? `, ${amount(quota.expected)} expected by the end of the ${quota.window}` : ''
  return `${amount(quota.used)} of ${amount(quota.limit)} used, ${amount(quota.reserved)} reserved${expected}`
}

export interface StreamLimit {
  words: string
  open: number | undefined
  limit: number
}

/** Limits of what may be under way at once. */
export function streamLimits(team: {
  streams?: { limit: number; open: number } | null
  streams_of_key?: number | null
}): StreamLimit[] {
  const limits: StreamLimit[] = []
  if (team.streams) limits.push({ words: 'streams at once', ...team.streams })
  if (team.streams_of_key != null)
    limits.push({ words: 'streams at once of a key', open: undefined, limit: team.streams_of_key })
  return limits
}
