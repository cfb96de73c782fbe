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
