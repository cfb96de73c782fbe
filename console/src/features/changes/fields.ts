/** Members of a thing as texts of a field: empty where absent, and absent where empty. */
import { computed, type Ref } from 'vue'
import type { Json, Table } from '@/lib/edits'

/** What somebody typed, as the file has it: a whole number where it is one, so that its rules can be told of it. */
export function numberOf(text: string): Json {
  return /^-?\d+$/.test(text.trim()) ? Number(text) : text.trim()
}

export const shown = (value: Json | undefined) =>
  typeof value === 'object' || value === undefined ? '' : String(value)

/** Sets a member, or takes it away where the text is empty. */
export function put(table: Table, member: string, value: Json) {
  if (value === '') Reflect.deleteProperty(table, member)
  else table[member] = value
}

export function textOf(thing: Ref<Table | undefined>, member: string, isNumber = false) {
  return computed({
    get: () => shown(thing.value?.[member]),
    set: (text: string) => {
      if (thing.value) put(thing.value, member, isNumber ? numberOf(text) : text)
    },
  })
}
