/** Where each thing has its page. */
export const paths = {
  now: '/',
  upstreams: '/upstreams',
  upstream: (name: string) => `/upstreams/${encodeURIComponent(name)}`,
  check: (name: string) => `/upstreams/${encodeURIComponent(name)}/check`,
  models: '/models',
  start: '/first-run',
  routes: '/routes',
  route: (name: string) => `/routes/${encodeURIComponent(name)}`,
  editRoute: (name: string) => `/routes/${encodeURIComponent(name)}/edit`,
  editTeam: (name: string) => `/teams/${encodeURIComponent(name)}/edit`,
  newThing: (kind: 'teams' | 'routes' | 'webhooks') => `/new/${kind}`,
  editWebhook: (name: string) => `/webhooks/${encodeURIComponent(name)}/edit`,
  editUpstream: (name: string) => `/upstreams/${encodeURIComponent(name)}/edit`,
  explain: (name: string) => `/routes/${encodeURIComponent(name)}/explain`,
  teams: '/teams',
  team: (name: string) => `/teams/${encodeURIComponent(name)}`,
  underWay: '/under-way',
  requests: '/requests',
  request: (id: string) => `/requests/${encodeURIComponent(id)}`,
  refusals: '/refusals',
  events: '/events',
  usage: '/usage',
  people: '/people',
  revisions: '/revisions',
  audit: '/audit',
  you: '/you',
  signIn: '/sign-in',
} as const

/** The page of the requests behind a figure: its query string as the service gave it. */
export function requestsBehind(
  query: string,
  more: Record<string, string> = {},
): { path: string; query: Record<string, string> } {
  return { path: paths.requests, query: { ...Object.fromEntries(new URLSearchParams(query)), ...more } }
}
