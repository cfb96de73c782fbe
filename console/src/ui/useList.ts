/** A list that its reader sorts by a column and narrows by a word. In the order of the page until then. */
import { computed, ref, type ComputedRef, type Ref } from 'vue'

export type Sortable = string | number | null | undefined

export interface ListOrder {
  by: Ref<string>
  isDown: Ref<boolean>
  /** Names and texts rise at first, numbers fall: the largest is what is looked for. */
  toggle: (column: string, isNumber: boolean) => void
}

export interface Listed<T> {
  lines: ComputedRef<T[]>
  order: ListOrder
  narrow: Ref<string>
  /** Long enough that narrowing it is of use. */
  isLong: ComputedRef<boolean>
}

const LONG = 8

function compared(one: Sortable, other: Sortable): number {
  if (typeof one === 'number' && typeof other === 'number') return one - other
  return String(one).localeCompare(String(other), 'en', { numeric: true })
}

/** What has no value stands last, whichever way it is sorted. */
function inOrder(one: Sortable, other: Sortable, isDown: boolean): number {
  const [lacksOne, lacksOther] = [one == null || one === '', other == null || other === '']
  if (lacksOne || lacksOther) return Number(lacksOne) - Number(lacksOther)
  return isDown ? compared(other, one) : compared(one, other)
}

/** `values`: what each column is sorted by; `text`: what a line is narrowed by. */
export function useList<T>(
  rows: () => readonly T[],
  values: Record<string, (row: T) => Sortable>,
  text: (row: T) => string,
): Listed<T> {
  const [by, isDown, narrow] = [ref(''), ref(false), ref('')]
  const lines = computed(() => {
    const word = narrow.value.trim().toLowerCase()
    const left = rows().filter((row) => text(row).toLowerCase().includes(word))
    const value = values[by.value]
    return value ? left.sort((one, other) => inOrder(value(one), value(other), isDown.value)) : left
  })
  function toggle(column: string, isNumber: boolean) {
    if (by.value !== column) {
      by.value = column
      isDown.value = isNumber
    } else if (isDown.value === isNumber) isDown.value = !isNumber
    else by.value = ''
  }
  return { lines, order: { by, isDown, toggle }, narrow, isLong: computed(() => rows().length > LONG) }
}
