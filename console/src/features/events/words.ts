/** The shape of states of events, and what came of a delivery. */

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
