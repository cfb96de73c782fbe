/** The places of the console that have content yet, in the order in which the work goes. */
import { paths } from '@/lib/paths'

export interface Page {
  title: string
  path: string
  /** Whoever sees only their own team has no use for it. */
  forAllTeams: boolean
}

export interface Place {
  name: string
  pages: readonly Page[]
}

export const PLACES: readonly Place[] = [
  { name: 'Now', pages: [{ title: 'Now', path: paths.now, forAllTeams: false }] },
  {
    name: 'Connect',
    pages: [
      { title: 'Upstreams', path: paths.upstreams, forAllTeams: true },
      { title: 'Models', path: paths.models, forAllTeams: true },
      { title: 'First run', path: paths.start, forAllTeams: true },
    ],
  },
  { name: 'Route', pages: [{ title: 'Routes', path: paths.routes, forAllTeams: false }] },
  {
    name: 'Allow',
    pages: [
      { title: 'Teams', path: paths.teams, forAllTeams: false },
      { title: 'People', path: paths.people, forAllTeams: true },
    ],
  },
  {
    name: 'Watch',
    pages: [
      { title: 'Under way', path: paths.underWay, forAllTeams: false },
      { title: 'Requests', path: paths.requests, forAllTeams: false },
      { title: 'Refused', path: paths.refusals, forAllTeams: true },
      { title: 'Events', path: paths.events, forAllTeams: true },
    ],
  },
  { name: 'Account', pages: [{ title: 'Usage', path: paths.usage, forAllTeams: false }] },
  {
    name: 'Change',
    pages: [
      { title: 'Revisions', path: paths.revisions, forAllTeams: true },
      { title: 'Audit', path: paths.audit, forAllTeams: true },
    ],
  },
]

/** The places with the pages that this role can use. */
export function placesFor(seesAllTeams: boolean): Place[] {
  const visible = PLACES.map((place) => ({
    ...place,
    pages: place.pages.filter((page) => seesAllTeams || !page.forAllTeams),
  }))
  return visible.filter((place) => place.pages.length > 0)
}

/** Whether a page is the one at `path`, or holds it. */
export function isAt(page: Page, path: string): boolean {
  return page.path === paths.now ? path === paths.now : path === page.path || path.startsWith(`${page.path}/`)
}
