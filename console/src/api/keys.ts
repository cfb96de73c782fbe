/** The keys under which answers are kept: everything about one thing begins with its name. */

export const keys = {
  me: ['me'],
  service: ['service'],
  now: ['now'],
  teams: ['teams'],
  routes: ['routes'],
  upstreams: ['upstreams'],
  inventory: ['inventory'],
  code: (route: string) => ['code', route],
  keysOf: (team: string) => ['keys', team],
  usage: (query: object) => ['usage', query],
  underWay: (query: object) => ['under-way', query],
  requests: (query: object) => ['requests', query],
  request: (id: string) => ['request', id],
  refusals: ['refusals'],
  events: (query: object) => ['events', query],
  webhooks: ['webhooks'],
  people: ['people'],
  signInRule: ['sign-in-rule'],
  tokens: ['tokens'],
  audit: (query: object) => ['audit', query],
} as const
