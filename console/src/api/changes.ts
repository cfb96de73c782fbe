/** What can be changed, one composable a change; each names what it makes stale. */
import { useMutation, useQueryClient } from '@tanstack/vue-query'
import { client, done, type Schemas } from './client'
import { keys } from './keys'

export function useSignIn() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['SignIn']) => done(client.POST('/manage/v1/session', { body })),
    onSuccess: (me) => cache.setQueryData(keys.me, me),
  })
}

export function useSignOut() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: () => done(client.DELETE('/manage/v1/session')),
    onSuccess: () => {
      cache.clear()
    },
  })
}

export function useIssueKey() {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (body: Schemas['NewKey']) => done(client.POST('/manage/v1/keys', { body })),
    onSuccess: (issued) => {
      void cache.invalidateQueries({ queryKey: keys.keysOf(issued.team) })
      void cache.invalidateQueries({ queryKey: keys.teams })
    },
  })
}

export function useRevokeKey(team: () => string) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: (id: string) => done(client.POST('/manage/v1/keys/{id}/revoke', { params: { path: { id } } })),
    onSuccess: () => {
      void cache.invalidateQueries({ queryKey: keys.keysOf(team()) })
      void cache.invalidateQueries({ queryKey: keys.teams })
    },
  })
}
