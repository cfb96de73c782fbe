/** Events, the webhooks that are told of them, and what came of telling. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { client, done } from './client'
import { keys } from './keys'
import { CALM, live } from './live'
import type { paths } from './schema'

export type EventsQuery = NonNullable<paths['/manage/v1/events']['get']['parameters']['query']>

export function useEvents(query: MaybeRefOrGetter<EventsQuery>) {
  return useQuery({
    queryKey: computed(() => keys.events(toValue(query))),
    queryFn: () => done(client.GET('/manage/v1/events', { params: { query: toValue(query) } })),
    placeholderData: keepPreviousData,
    ...live(CALM),
  })
}

export function useWebhooks() {
  return useQuery({
    queryKey: keys.webhooks,
    queryFn: () => done(client.GET('/manage/v1/webhooks')),
    ...live(CALM),
  })
}

export function useDeliveries(name: MaybeRefOrGetter<string>) {
  return useQuery({
    queryKey: computed(() => [...keys.webhooks, toValue(name)]),
    queryFn: () =>
      done(client.GET('/manage/v1/webhooks/{name}/deliveries', { params: { path: { name: toValue(name) } } })),
    enabled: () => toValue(name) !== '',
    ...live(CALM),
  })
}

export function useTryWebhook() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (name: string) => done(client.POST('/manage/v1/webhooks/{name}/try', { params: { path: { name } } })),
    onSettled: () => {
      void cache.invalidateQueries({ queryKey: keys.webhooks })
      void cache.invalidateQueries({ queryKey: ['events'] })
    },
  })
}
