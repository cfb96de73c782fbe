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

/** A change after which what is kept under `stale` is asked anew. */
function useChange<Body, Given>(change: (body: Body) => Promise<Given>, stale: readonly (readonly string[])[]) {
  const cache = useQueryClient()
  return useMutation({
    mutationFn: change,
    onSuccess: () => stale.forEach((queryKey) => void cache.invalidateQueries({ queryKey })),
  })
}

export function useConfirm() {
  return useMutation({
    mutationFn: (body: Schemas['Confirmation']) => done(client.POST('/manage/v1/me/confirm', { body })),
  })
}

export function useAddPerson() {
  return useChange((body: Schemas['NewPerson']) => done(client.POST('/manage/v1/people', { body })), [keys.people])
}

export function useChangePerson(name: () => string) {
  return useChange(
    (body: Schemas['PersonChanges']) =>
      done(client.POST('/manage/v1/people/{name}', { params: { path: { name: name() } }, body })),
    [keys.people],
  )
}

export function useResetPerson(name: () => string) {
  return useChange(
    () => done(client.POST('/manage/v1/people/{name}/reset', { params: { path: { name: name() } } })),
    [keys.people],
  )
}

export function useSignOutPerson(name: () => string) {
  return useChange(
    () => done(client.POST('/manage/v1/people/{name}/sign-out', { params: { path: { name: name() } } })),
    [keys.people],
  )
}

export function useSetSignInRule() {
  return useChange(
    (body: Schemas['SignInRule']) => done(client.POST('/manage/v1/sign-in-rule', { body })),
    [keys.signInRule],
  )
}

export function useSetPassword() {
  return useChange(
    (body: Schemas['NewPassword']) => done(client.POST('/manage/v1/me/password', { body })),
    [keys.me, keys.tokens],
  )
}

export function useBeginCodes() {
  return useChange(() => done(client.POST('/manage/v1/me/codes')), [])
}

export function useSetUpCodes() {
  return useChange((body: Schemas['FirstCode']) => done(client.POST('/manage/v1/me/codes/first', { body })), [keys.me])
}

export function useRemoveCodes() {
  return useChange(() => done(client.DELETE('/manage/v1/me/codes')), [keys.me])
}

export function useEndToken() {
  return useChange(
    (id: string) => done(client.DELETE('/manage/v1/tokens/{id}', { params: { path: { id } } })),
    [keys.tokens],
  )
}

export function useVerifyAudit() {
  return useChange(() => done(client.GET('/manage/v1/audit/verify')), [])
}
