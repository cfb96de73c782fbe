<script setup lang="ts">
/** The variables of a preset with their usual values. */
import { computed, nextTick, ref } from 'vue'
import type { Preset } from './usePreset'

const props = defineProps<{
  preset: Preset
  problemAt: (...names: (string | number)[]) => string | undefined
}>()
const list = ref<HTMLElement>()
const variables = computed(() => props.preset.variables.value)
const text = (event: Event) => (event.target as HTMLInputElement).value

/** The usual value of a variable; the order stays while somebody types. */
function setUsual(name: string, usual: string) {
  props.preset.setVariables(variables.value.map((one) => (one.name === name ? { name, usual } : one)))
  void nextTick(() => list.value?.querySelector<HTMLElement>(`[data-variable="${name}"]`)?.focus())
}
const remove = (name: string) => {
  props.preset.setVariables(variables.value.filter((one) => one.name !== name))
}
const fresh = ref('')
function add() {
  const name = fresh.value.trim()
  if (!name || variables.value.some((one) => one.name === name)) return
  props.preset.setVariables([...variables.value, { name, usual: '' }])
  fresh.value = ''
}
const problem = (name: string) =>
  props.problemAt('variables', name) ??
  ((props.preset.preset.value.required as string[] | undefined) ?? [])
    .map((one, at) => (one === name ? props.problemAt('required', at) : undefined))
    .find(Boolean)
</script>

<template>
  <div ref="list">
    <p class="mb-1 font-medium">Variables</p>
    <p v-for="one in variables" :key="one.name" class="mb-1.5 flex flex-wrap items-baseline gap-x-3 gap-y-1">
      <span class="mono w-40">{{ one.name }}</span>
      <input
        class="field w-72"
        :data-variable="one.name"
        :aria-label="`Usual value of ${one.name}`"
        :value="one.usual"
        @input="setUsual(one.name, text($event))"
      />
      <button class="second underline" :aria-label="`Remove the variable ${one.name}`" @click="remove(one.name)">
        remove
      </button>
      <span v-if="problem(one.name)" class="text-attention text-small">{{ problem(one.name) }}</span>
      <span v-else-if="one.usual === ''" class="second text-small">no usual value: each request has to give it</span>
    </p>
    <form class="flex items-baseline gap-x-3" @submit.prevent="add">
      <input v-model="fresh" class="field w-40" aria-label="Name of a new variable" placeholder="name" />
      <button class="button quiet">Add a variable</button>
    </form>
  </div>
</template>
