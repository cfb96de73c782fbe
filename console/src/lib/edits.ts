/** The changes that make one thing of the catalogue into another: operations of a JSON Patch (RFC 6902). */
export type Json = string | number | boolean | null | Json[] | Table
export interface Table {
  [member: string]: Json
}
export interface Edit {
  op: string
  path: string
  from?: string
  value?: Json
}
export type Kind = 'upstreams' | 'routes' | 'teams' | 'webhooks'

/** A JSON Pointer (RFC 6901) from names. */
export function pointer(...names: (string | number)[]): string {
  return names.map((name) => `/${String(name).replaceAll('~', '~0').replaceAll('/', '~1')}`).join('')
}

/** A place as problems name it, as a pointer: `teams.boards.quotas[0].limit` is `/teams/boards/quotas/0/limit`. */
export function pointerOf(place: string, kind: Kind, name: string): string {
  const head = `${kind}.${name}`
  const rest = place.startsWith(head) ? place.slice(head.length) : ''
  const inside = rest.replaceAll('[', '.').replaceAll(']', '')
  return pointer(kind, name) + inside.replaceAll('.', '/')
}

const isTable = (value: Json | undefined): value is Table =>
  typeof value === 'object' && value !== null && !Array.isArray(value)
const same = (one: Json | undefined, other: Json | undefined) => JSON.stringify(one) === JSON.stringify(other)

/** What was left empty is absent: a file has no empty values. */
export function withoutEmpty(value: Json): Json {
  if (Array.isArray(value)) return value.map(withoutEmpty)
  if (!isTable(value)) return value
  const kept = Object.entries(value).filter(([, one]) => one !== '' && one !== null)
  return Object.fromEntries(kept.map(([name, one]) => [name, withoutEmpty(one)]))
}

/** Changes of the members that differ; of the tables among them, member by member, so that two people can change one thing at once. */
export function editsBetween(at: string, before: Table, after: Table): Edit[] {
  const edits: Edit[] = []
  for (const name of new Set([...Object.keys(before), ...Object.keys(after)])) {
    const [was, is, path] = [before[name], after[name], at + pointer(name)]
    if (same(was, is)) continue
    if (is === undefined) edits.push({ op: 'remove', path })
    else if (isTable(was) && isTable(is)) edits.push(...editsBetween(path, was, is))
    else edits.push({ op: 'add', path, value: is })
  }
  return edits
}
