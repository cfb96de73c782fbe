/** How often what is shown is asked for again. A hidden tab asks nothing; an error backs off; what is old says so by its age. */

/** Milliseconds between two askings of what is under way. */
export const AT_ONCE = 1_000

/** Of what happens now. */
export const LIVE = 2_000

/** Of what changes by the minute. */
export const CALM = 15_000

const LONGEST = 60_000

interface Asked {
  state: { status: string; fetchFailureCount: number; errorUpdateCount: number }
}

/** Options of a query that is asked again every `ms` while it is looked at. */
export function live(ms: number) {
  return {
    refetchInterval: (query: Asked) =>
      query.state.status === 'error' ? Math.min(LONGEST, ms * 2 ** Math.min(query.state.errorUpdateCount, 6)) : ms,
    refetchIntervalInBackground: false,
  }
}
