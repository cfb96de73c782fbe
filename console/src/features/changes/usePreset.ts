/** The preset of a route while it is edited, in the form of the file: what is empty is absent. */
import { computed, type Ref } from 'vue'
import type { Json, Table } from '@/lib/edits'
import { numberOf, put, shown } from './fields'

/** A variable with its usual value; without one each request has to give it. */
export interface Variable {
  name: string
  usual: string
}

const isEmpty = (value: Json) =>
  value === '' || (typeof value === 'object' && value !== null && Object.keys(value).length === 0)

export function usePreset(thing: Ref<Table>) {
  const preset = computed(() => (thing.value.preset as Table | undefined) ?? {})

  function write(part: string, value: Json) {
    const now = { ...preset.value }
    put(now, part, isEmpty(value) ? '' : value)
    put(thing.value, 'preset', isEmpty(now) ? '' : now)
  }
  const text = (part: string, isNumber = false) =>
    computed({
      get: () => shown(preset.value[part]),
      set: (value: string) => {
        write(part, isNumber ? numberOf(value) : value)
      },
    })
  const lines = (part: string) =>
    computed({
      get: () => ((preset.value[part] as string[] | undefined) ?? []).join('\n'),
      set: (value: string) => {
        write(
          part,
          value.split('\n').filter((line) => line !== ''),
        )
      },
    })

  const examples = computed(() => (preset.value.examples as Table[] | undefined) ?? [])
  const variables = computed<Variable[]>(() => [
    ...Object.entries((preset.value.variables as Record<string, string> | undefined) ?? {}).map(([name, usual]) => ({
      name,
      usual,
    })),
    ...((preset.value.required as string[] | undefined) ?? []).map((name) => ({ name, usual: '' })),
  ])
  function setVariables(all: Variable[]) {
    const usual = all.filter((one) => one.usual !== '').map((one) => [one.name, one.usual] as const)
    write('variables', Object.fromEntries(usual))
    write(
      'required',
      all.filter((one) => one.usual === '').map((one) => one.name),
    )
  }

  const fixed = computed(() => (preset.value.fixed as string[] | undefined) ?? [])
  function fix(part: string, isFixed: boolean) {
    const others = fixed.value.filter((one) => one !== part)
    write('fixed', isFixed ? [...others, part] : others)
  }
  return { preset, text, lines, write, examples, variables, setVariables, fixed, fix }
}

export type Preset = ReturnType<typeof usePreset>
