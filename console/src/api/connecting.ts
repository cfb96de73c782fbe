/** Bringing servers in: checks, remedies, what upstreams serve, and what a first run makes. */
import { useMutation, useQuery, useQueryClient, type QueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { client, done, type Schemas } from './client'
import { keys } from './keys'
import { CALM, live } from './live'

/** All that a change to the catalogue makes old. */
function changed(cache: QueryClient) {
  for (const queryKey of [keys.upstreams, keys.inventory, keys.routes, keys.teams, keys.now, keys.service])
    void cache.invalidateQueries({ queryKey })
}

export function useProofCost() {
  return useMutation({
    mutationFn: (body: Schemas['CheckAsk']) => done(client.POST('/manage/v1/upstreams/proof-cost', { body })),
  })
}

export function useMend(name: MaybeRefOrGetter<string>) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['MendAsk']) =>
      done(client.POST('/manage/v1/upstreams/{name}/mend', { params: { path: { name: toValue(name) } }, body })),
    onSuccess: () => {
      changed(cache)
    },
  })
}

export function useAddUpstream() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['UpstreamAddition']) => done(client.POST('/manage/v1/upstreams', { body })),
    onSuccess: () => {
      changed(cache)
    },
  })
}

export function useOffer(name: MaybeRefOrGetter<string>) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (models: string[]) =>
      done(
        client.POST('/manage/v1/upstreams/{name}/offers', {
          params: { path: { name: toValue(name) } },
          body: { models },
        }),
      ),
    onSuccess: () => {
      changed(cache)
    },
  })
}

export function useDrain(name: MaybeRefOrGetter<string>) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (drained: boolean) =>
      done(
        client.PUT('/manage/v1/upstreams/{name}/drained', {
          params: { path: { name: toValue(name) } },
          body: { drained },
        }),
      ),
    onSuccess: () => {
      changed(cache)
    },
  })
}

export function useExplain(route: MaybeRefOrGetter<string>) {
  return useMutation({
    mutationFn: (body: Schemas['ExplainAsk']) =>
      done(client.POST('/manage/v1/routes/{name}/explain', { params: { path: { name: toValue(route) } }, body })),
  })
}

export function useSetCredential(name: MaybeRefOrGetter<string>) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['CredentialAddition']) =>
      done(client.POST('/manage/v1/upstreams/{name}/credential', { params: { path: { name: toValue(name) } }, body })),
    onSuccess: () => {
      changed(cache)
    },
  })
}

export function useInventory() {
  return useQuery({ queryKey: keys.inventory, queryFn: () => done(client.GET('/manage/v1/inventory')), ...live(CALM) })
}

export function useRefreshInventory() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: () => done(client.POST('/manage/v1/inventory/refresh', { body: {} })),
    onSuccess: (shown) => cache.setQueryData(keys.inventory, shown),
  })
}

export function useAddRoute() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['RouteAddition']) => done(client.POST('/manage/v1/routes', { body })),
    onSuccess: () => {
      changed(cache)
    },
  })
}

export function useAddTeam() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['TeamAddition']) => done(client.POST('/manage/v1/teams', { body })),
    onSuccess: () => {
      changed(cache)
    },
  })
}

export function useRouteCode(route: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: computed(() => keys.code(toValue(route))),
    queryFn: () => done(client.GET('/manage/v1/routes/{name}/code', { params: { path: { name: toValue(route) } } })),
    retry: false,
  })
}
