<script setup lang="ts">
/** All of a thing as text, for what has no field of its own: checked as it is typed, by the same rules. */
import { ref, watch } from 'vue'
import type { Table } from '@/lib/edits'
import TextLines from '@/ui/TextLines.vue'

defineProps<{ members: string }>()
const thing = defineModel<Table>('thing', { required: true })
const written = (table: Table) => JSON.stringify(table, null, 2)
const text = ref(written(thing.value))
const wrong = ref<string>()

function read(typed: string) {
  text.value = typed
  try {
    const value = JSON.parse(typed) as unknown
    if (typeof value !== 'object' || value === null || Array.isArray(value)) throw new Error('it is not an object')
    wrong.value = undefined
    thing.value = value as Table
  } catch (error) {
    wrong.value = `This is not JSON: ${error instanceof Error ? error.message : 'it cannot be read'}. The draft stays as it was.`
  }
}
/** What the fields change shows here too, but what is typed here is not written over. */
watch(
  thing,
  (now) => {
    if (wrong.value === undefined && written(now) !== written(JSON.parse(text.value) as Table))
      text.value = written(now)
  },
  { deep: true },
)
</script>

<template>
  <details class="mt-6 max-w-4xl">
    <summary class="cursor-pointer font-semibold">All of it, as text</summary>
    <TextLines
      class="mono mt-2"
      :model-value="text"
      label="Its members, as JSON"
      :rows="16"
      :problem="wrong"
      :hint="`For what has no field above: ${members}. Names and values are those of the catalogue file; numbers with a fraction and days are texts.`"
      @update:model-value="read"
    />
  </details>
</template>
