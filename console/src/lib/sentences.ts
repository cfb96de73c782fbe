/** Sentences that pages open with. */
import { ago, duration } from './format'

export interface UpstreamSeen {
  name: string
  state: string
  since?: string | null
  credential: string
  rests_until?: string | null
  last_failure?: { at: string; kind: string; detail: string; model: string } | null
  first_token_ms?: number | null
}

/** What an upstream's page opens with. */
export function upstreamSentence(seen: UpstreamSeen, now: number): string {
  const since = seen.since ? ` since ${ago(now - Date.parse(seen.since)).replace(' ago', '')}` : ''
  if (seen.credential !== 'none' && seen.credential !== 'found')
    return `${seen.name} cannot be asked: ${seen.credential}.`
  const last = seen.last_failure
  const failed = last ? `${last.kind} at ${last.model}: ${last.detail}, ${ago(now - Date.parse(last.at))}` : ''
  if (seen.state === 'failing')
    return `${seen.name} fails${since}: ${failed}. Requests go on to the next offers of their routes.`
  if (seen.state === 'degraded') return `${seen.name} failed at its last attempt: ${failed}.`
  if (seen.state === 'not asked yet') return `Nothing was asked of ${seen.name} since this instance began.`
  const wait = seen.first_token_ms == null ? '' : `, a first token comes after ${duration(seen.first_token_ms)}`
  return `${seen.name} is well${since}${wait}.${failed ? ` Its last failure was ${failed}.` : ''}`
}
