<script setup lang="ts">
/** Example turns of a preset: a question, and the answer that shows how to answer. */
import type { Table } from '@/lib/edits'
import TextLines from '@/ui/TextLines.vue'
import { shown } from './fields'
import type { Preset } from './usePreset'

const props = defineProps<{
  preset: Preset
  problemAt: (...names: (string | number)[]) => string | undefined
}>()
const all = () => props.preset.examples.value

function write(index: number, side: 'user' | 'assistant', value: string) {
  const changed: Table[] = all().map((one, at) => (at === index ? { ...one, [side]: value } : one))
  props.preset.write('examples', changed)
}
const remove = (index: number) => {
  props.preset.write(
    'examples',
    all().filter((_, at) => at !== index),
  )
}
const add = () => {
  props.preset.write('examples', [...all(), { user: '', assistant: '' }])
}
</script>

<template>
  <div>
    <p class="mb-1 font-medium">Examples</p>
    <div
      v-for="(example, index) in preset.examples.value"
      :key="index"
      class="border-rule mb-1.5 grid gap-x-11 gap-y-2 border-b pb-1.5 sm:grid-cols-2"
    >
      <TextLines
        :model-value="shown(example.user)"
        :label="`Question of example ${index + 1}`"
        :rows="2"
        :problem="problemAt('examples', index, 'user') ?? problemAt('examples', index)"
        @update:model-value="write(index, 'user', $event)"
      />
      <TextLines
        :model-value="shown(example.assistant)"
        :label="`Answer of example ${index + 1}`"
        :rows="2"
        :problem="problemAt('examples', index, 'assistant')"
        @update:model-value="write(index, 'assistant', $event)"
      />
      <p>
        <button class="second underline" :aria-label="`Remove example ${index + 1}`" @click="remove(index)">
          remove
        </button>
      </p>
    </div>
    <p><button class="button quiet" @click="add">Add an example</button></p>
  </div>
</template>
