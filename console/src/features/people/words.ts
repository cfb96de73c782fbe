/** People in words. */
import type { Schemas } from '@/api/client'
import { capital, grouped, listed } from '@/lib/format'

type Person = Schemas['PersonLine']

export const ROLES = ['owner', 'operator', 'lead', 'viewer'] as const

const MAY: Record<string, string> = {
  owner: 'does everything, and lets others in',
  operator: 'sees to upstreams, routes, quotas and the keys of every team',
  lead: 'sees to the keys of a team and sees its figures',
  viewer: 'sees the figures of a team',
}

export const ROLE_CHOICES = ROLES.map((value) => ({ value, words: value }))

/** What somebody of a role does here. */
export function mayWords(role: string): string {
  return MAY[role] ?? ''
}

export function needsTeam(role: string): boolean {
  return role === 'lead' || role === 'viewer'
}

export function signInWords(person: Person): string {
  if (person.disabled_at) return 'nothing (disabled)'
  if (person.one_time_until) return 'a one-time sign-in, not used yet'
  if (!person.has_password) return 'their session or tokens only'
  return person.codes_since ? 'password and code' : 'password'
}

export function stateOf(person: Person): { word: string; shape: 'well' | 'off' | 'degraded' } {
  if (person.disabled_at) return { word: 'disabled', shape: 'off' }
  return person.one_time_until ? { word: 'invited', shape: 'degraded' } : { word: 'in', shape: 'well' }
}

/** What the page opens with. */
export function opening(people: readonly Person[]): string {
  const active = people.filter((person) => !person.disabled_at)
  const owners = active.filter((person) => person.role === 'owner')
  const plain = active.filter((person) => person.has_password && !person.codes_since)
  const count = (number: number, one: string, many: string) =>
    number === 1 ? `one ${one}` : `${grouped(number)} ${many}`
  const who = `${count(active.length, 'person', 'people')} can sign in; ${count(owners.length, 'is an owner', 'are owners')}`
  const only = owners.length === 1 ? `, ${owners[0]?.name ?? ''}: no other owner can add people` : ''
  const codes =
    plain.length === 0
      ? ''
      : ` ${plain.length > 3 ? grouped(plain.length) : listed(plain.map((person) => person.name))} would be let in by a password alone.`
  return `${capital(who)}${only}.${codes}`
}
