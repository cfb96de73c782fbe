/** Which address shows which page. Everyone but the sign-in needs attention signed in; what they may see the service decides. */
import type { QueryClient } from '@tanstack/vue-query'
import { createRouter, createWebHistory, type Router } from 'vue-router'
import { client, done, Problem } from '@/api/client'
import { keys } from '@/api/keys'
import { paths } from '@/lib/paths'
import NowPage from '@/features/now/NowPage.vue'

declare module 'vue-router' {
  interface RouteMeta {
    title: string
    isOpen?: boolean
  }
}

const routes = [
  { path: paths.now, component: NowPage, meta: { title: 'Now' } },
  { path: paths.signIn, component: () => import('./SignInPage.vue'), meta: { title: 'Sign in', isOpen: true } },
  {
    path: paths.upstreams,
    component: () => import('@/features/upstreams/UpstreamListPage.vue'),
    meta: { title: 'Upstreams' },
  },
  {
    path: '/upstreams/:name',
    component: () => import('@/features/upstreams/UpstreamPage.vue'),
    props: true,
    meta: { title: 'Upstream' },
  },
  {
    path: '/upstreams/:name/check',
    component: () => import('@/features/upstreams/UpstreamCheckPage.vue'),
    props: true,
    meta: { title: 'Check' },
  },
  { path: paths.models, component: () => import('@/features/inventory/InventoryPage.vue'), meta: { title: 'Models' } },
  { path: paths.start, component: () => import('@/features/start/StartPage.vue'), meta: { title: 'First run' } },
  { path: paths.routes, component: () => import('@/features/routes/RouteListPage.vue'), meta: { title: 'Routes' } },
  {
    path: '/routes/:name',
    component: () => import('@/features/routes/RoutePage.vue'),
    props: true,
    meta: { title: 'Route' },
  },
  {
    path: '/routes/:name/explain',
    component: () => import('@/features/routes/ExplainPage.vue'),
    props: true,
    meta: { title: 'Explain' },
  },
  { path: paths.teams, component: () => import('@/features/teams/TeamListPage.vue'), meta: { title: 'Teams' } },
  {
    path: '/teams/:name',
    component: () => import('@/features/teams/TeamPage.vue'),
    props: true,
    meta: { title: 'Team' },
  },
  {
    path: paths.underWay,
    component: () => import('@/features/requests/UnderWayPage.vue'),
    meta: { title: 'Under way' },
  },
  {
    path: paths.requests,
    component: () => import('@/features/requests/RequestListPage.vue'),
    meta: { title: 'Requests' },
  },
  {
    path: '/requests/:id',
    component: () => import('@/features/requests/RequestPage.vue'),
    props: true,
    meta: { title: 'Request' },
  },
  { path: paths.refusals, component: () => import('@/features/refusals/RefusalPage.vue'), meta: { title: 'Refused' } },
  { path: paths.events, component: () => import('@/features/events/EventPage.vue'), meta: { title: 'Events' } },
  { path: paths.people, component: () => import('@/features/people/PeoplePage.vue'), meta: { title: 'People' } },
  ...[
    {
      path: '/routes/:name/edit',
      component: () => import('@/features/changes/RouteEditPage.vue'),
      title: 'Edit a route',
    },
    { path: '/teams/:name/edit', component: () => import('@/features/changes/TeamEditPage.vue'), title: 'Edit a team' },
    {
      path: '/new/:kind(teams|routes|webhooks)',
      component: () => import('@/features/changes/NewThingPage.vue'),
      title: 'New',
    },
    {
      path: '/webhooks/:name/edit',
      component: () => import('@/features/changes/WebhookEditPage.vue'),
      title: 'Edit a webhook',
    },
    {
      path: '/upstreams/:name/edit',
      component: () => import('@/features/changes/UpstreamEditPage.vue'),
      title: 'Edit an upstream',
    },
  ].map(({ title, ...page }) => ({ ...page, props: true, meta: { title } })),
  {
    path: paths.revisions,
    component: () => import('@/features/changes/RevisionsPage.vue'),
    meta: { title: 'Revisions' },
  },
  { path: paths.audit, component: () => import('@/features/audit/AuditPage.vue'), meta: { title: 'Audit' } },
  { path: paths.you, component: () => import('@/features/you/YouPage.vue'), meta: { title: 'You' } },
  { path: paths.usage, component: () => import('@/features/usage/UsagePage.vue'), meta: { title: 'Usage' } },
  { path: '/:path(.*)*', component: () => import('./NotFoundPage.vue'), meta: { title: 'Page not found' } },
]

/** Where someone goes after signing in: back to where they wanted to, but never out of the console. */
export function afterSignIn(then: unknown): string {
  return typeof then === 'string' && then.startsWith('/') && !then.startsWith('//') ? then : paths.now
}

export function makeRouter(cache: QueryClient): Router {
  const router = createRouter({ history: createWebHistory('/console/'), routes })
  router.beforeEach(async (to) => {
    if (to.meta.isOpen) return true
    try {
      const me = await cache.ensureQueryData({
        queryKey: keys.me,
        queryFn: () => done(client.GET('/manage/v1/me')),
        retry: false,
      })
      // Whoever has to set up an authenticator app can do nothing else before.
      return me.lacks_codes && to.path !== paths.you ? { path: paths.you } : true
    } catch (problem) {
      if (problem instanceof Problem && problem.status === 401)
        return { path: paths.signIn, query: { then: to.fullPath } }
      // Anything else is shown on the page itself, which asks again.
      return true
    }
  })
  router.afterEach((to, from) => {
    const name = to.params['name'] ?? to.params['id']
    document.title = `${typeof name === 'string' ? `${name}, ` : ''}${to.meta.title} · Wendor`
    // Whoever moves by keyboard or hears the page begins at its head, but not when only a filter changed.
    if (to.path !== from.path && from.matched.length > 0) {
      void Promise.resolve().then(() => requestAnimationFrame(() => document.querySelector<HTMLElement>('h1')?.focus()))
    }
  })
  return router
}
