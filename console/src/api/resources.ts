/** What there is to read, one composable a resource. Filters come as getters; what leaves is a query with its answer, age and problem. */
import { keepPreviousData, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { client, done } from './client'
import { keys } from './keys'
import { AT_ONCE, CALM, LIVE, live } from './live'
import type { paths } from './schema'

export type UsageQuery = paths['/manage/v1/usage']['get']['parameters']['query']
export type RequestsQuery = NonNullable<paths['/manage/v1/requests']['get']['parameters']['query']>
export type UnderWayQuery = NonNullable<paths['/manage/v1/requests/under-way']['get']['parameters']['query']>
export type AuditQuery = NonNullable<paths['/manage/v1/audit']['get']['parameters']['query']>

type On = MaybeRefOrGetter<boolean>

export function useMe(enabled: On = true) {
  return useQuery({
    queryKey: keys.me,
    queryFn: () => done(client.GET('/manage/v1/me')),
    enabled,
    staleTime: Infinity,
    retry: false,
  })
}

/** Whether whoever is signed in may change the catalogue. The service decides; this only spares them a page that it would refuse. */
export function useCanChange() {
  const me = useMe()
  return computed(() => ['owner', 'operator'].includes(me.data.value?.role ?? ''))
}

export function useService() {
  return useQuery({ queryKey: keys.service, queryFn: () => done(client.GET('/manage/v1/service')), ...live(CALM) })
}

export function useNow() {
  return useQuery({ queryKey: keys.now, queryFn: () => done(client.GET('/manage/v1/now')), ...live(CALM) })
}

export function useTeams(enabled: On = true) {
  return useQuery({ queryKey: keys.teams, queryFn: () => done(client.GET('/manage/v1/teams')), enabled, ...live(CALM) })
}

export function useRoutes(enabled: On = true) {
  return useQuery({
    queryKey: keys.routes,
    queryFn: () => done(client.GET('/manage/v1/routes')),
    enabled,
    staleTime: CALM,
  })
}

export function useUpstreams(enabled: On = true) {
  return useQuery({
    queryKey: keys.upstreams,
    queryFn: () => done(client.GET('/manage/v1/upstreams')),
    enabled,
    ...live(CALM),
  })
}

export function useKeys(team: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: computed(() => keys.keysOf(toValue(team))),
    queryFn: () => done(client.GET('/manage/v1/keys', { params: { query: { team: toValue(team) } } })),
  })
}

export function useUsage(query: MaybeRefOrGetter<UsageQuery>, enabled: On = true) {
  return useQuery({
    queryKey: computed(() => keys.usage(toValue(query))),
    queryFn: () => done(client.GET('/manage/v1/usage', { params: { query: toValue(query) } })),
    placeholderData: keepPreviousData,
    enabled,
  })
}

/** Why a range cost more or less than the previous period. */
export function useUsageWhy(query: MaybeRefOrGetter<UsageQuery>) {
  return useQuery({
    queryKey: computed(() => keys.usageWhy(toValue(query))),
    queryFn: () => done(client.GET('/manage/v1/usage/why', { params: { query: toValue(query) } })),
    placeholderData: keepPreviousData,
  })
}

export function useRequests(query: MaybeRefOrGetter<RequestsQuery>, isLive: MaybeRefOrGetter<boolean>) {
  const options = live(LIVE)
  return useQuery({
    queryKey: computed(() => keys.requests(toValue(query))),
    queryFn: () => done(client.GET('/manage/v1/requests', { params: { query: toValue(query) } })),
    placeholderData: keepPreviousData,
    refetchInterval: (asked) => (toValue(isLive) ? options.refetchInterval(asked) : false),
  })
}

/** What is under way; each look tells what has ended since the one before. */
export function useUnderWay(query: MaybeRefOrGetter<UnderWayQuery>) {
  let after: number | undefined
  return useQuery({
    queryKey: computed(() => keys.underWay(toValue(query))),
    queryFn: async () => {
      const asked = { ...toValue(query), ...(after === undefined ? {} : { after }) }
      const seen = await done(client.GET('/manage/v1/requests/under-way', { params: { query: asked } }))
      after = seen.cursor
      return seen
    },
    gcTime: 0,
    ...live(AT_ONCE),
  })
}

export function useRequest(id: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: computed(() => keys.request(toValue(id))),
    queryFn: () => done(client.GET('/manage/v1/requests/{id}', { params: { path: { id: toValue(id) } } })),
    retry: false,
  })
}

export function usePeople() {
  return useQuery({ queryKey: keys.people, queryFn: () => done(client.GET('/manage/v1/people')), ...live(CALM) })
}

export function useSignInRule() {
  return useQuery({ queryKey: keys.signInRule, queryFn: () => done(client.GET('/manage/v1/sign-in-rule')) })
}

export function useTokens() {
  return useQuery({ queryKey: keys.tokens, queryFn: () => done(client.GET('/manage/v1/tokens')) })
}

export function useAudit(query: MaybeRefOrGetter<AuditQuery>) {
  return useQuery({
    queryKey: computed(() => keys.audit(toValue(query))),
    queryFn: () => done(client.GET('/manage/v1/audit', { params: { query: toValue(query) } })),
    placeholderData: keepPreviousData,
  })
}

export function useRefusals() {
  return useQuery({ queryKey: keys.refusals, queryFn: () => done(client.GET('/manage/v1/refusals')), ...live(CALM) })
}
