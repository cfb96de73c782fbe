/** Kinds of events, and the shape of their states. */

export const KINDS = [
  { value: 'health', words: 'health of upstreams' },
  { value: 'slow', words: 'slow first tokens' },
  { value: 'spool', words: 'the spool' },
  { value: 'quota', words: 'quotas near their limit' },
  { value: 'expiry', words: 'keys that expire' },
  { value: 'models', words: 'what upstreams serve' },
  { value: 'fault', words: 'faults of Wendor itself' },
  { value: 'revision', words: 'changes that undid themselves' },
  { value: 'test', words: 'webhooks that were tried' },
] as const

/** What began needs somebody, what ended is well again, what happened is told. */
export function shapeOf(event: { kind: string; state: string }): 'failing' | 'degraded' | 'well' | 'off' {
  if (event.state === 'began') return event.kind === 'slow' ? 'degraded' : 'failing'
  return event.state === 'ended' ? 'well' : 'off'
}

/** What came of the last try of a delivery. */
export function outcome(delivery: { webhook: string; status?: number | null; failed?: string | null }): string {
  if (delivery.failed) return delivery.failed
  return delivery.status == null ? 'not tried yet' : `it answered ${delivery.status}`
}
