/** Sentences that pages open with. */
import { ago, duration } from './format'

export interface UpstreamSeen {
  name: string
  state: string
  since?: string | null
  credential: string
  drained: boolean
  connections: { next_trial?: string | null }
  offers: readonly {
    model: string
    health: {
      state: string
      next_trial?: string | null
      last_failure?: { at: string; kind: string; detail: string } | null
    }
  }[]
  last_failure?: { at: string; kind: string; detail: string; model: string } | null
  first_token_ms?: number | null
}

/** When something of an upstream that rests is tried next, in milliseconds since 1970. */
export function nextTrial(seen: Pick<UpstreamSeen, 'connections' | 'offers'>): number | undefined {
  const of = [seen.connections.next_trial, ...seen.offers.map((one) => one.health.next_trial)]
  const times = of.flatMap((at) => (at ? [Date.parse(at)] : []))
  return times.length > 0 ? Math.min(...times) : undefined
}

/** What an upstream's page opens with. */
export function upstreamSentence(seen: UpstreamSeen, now: number): string {
  const since = seen.since ? ` since ${ago(now - Date.parse(seen.since)).replace(' ago', '')}` : ''
  if (seen.credential !== 'none' && seen.credential !== 'found')
    return `${seen.name} cannot be used: ${seen.credential}.`
  const last = seen.last_failure
  const failed = last ? `${last.kind} at ${last.model}: ${last.detail}, ${ago(now - Date.parse(last.at))}` : ''
  if (seen.drained)
    return `${seen.name} is drained: it takes no new requests, and what was under way goes on. Its routes ask their other offers.`
  const trial = nextTrial(seen)
  const next = trial === undefined ? '' : ` It is tried again ${trial > now ? `in ${duration(trial - now)}` : 'now'}.`
  if (seen.state === 'failing')
    return `${seen.name} fails${since}: ${failed}.${next} Requests go on to the next offers of their routes.`
  if (seen.state === 'on trial') return `${seen.name} is on trial: one request at a time.${next}`
  const resting = seen.offers
    .filter((one) => one.health.state === 'failing')
    .map(({ model, health: { last_failure: own } }) =>
      own ? `${model} (${own.kind}: ${own.detail}, ${ago(now - Date.parse(own.at))})` : model,
    )
  if (seen.state === 'degraded' && resting.length > 0)
    return `${seen.name} is used, but not for ${resting.join(', ')}.${next}`
  if (seen.state === 'degraded') return `${seen.name} failed at its last attempt: ${failed}.`
  if (seen.state === 'no traffic yet') return `${seen.name} had no traffic since this instance started.`
  const wait = seen.first_token_ms == null ? '' : `, a first token comes after ${duration(seen.first_token_ms)}`
  return `${seen.name} is well${since}${wait}.${failed ? ` Its last failure was ${failed}.` : ''}`
}
