<script setup lang="ts">
/** One filter of a list: its name and a choice; the first choice is any. */
import { useId } from 'vue'

defineProps<{ label: string; options: readonly { value: string; words: string }[]; any?: string }>()
const value = defineModel<string>({ required: true })
const id = useId()
</script>

<template>
  <span class="inline-flex items-baseline gap-1.5">
    <label :for="id" class="second text-small">{{ label }}</label>
    <select :id="id" v-model="value" class="filter" :class="{ 'font-semibold': value !== '' && any }">
      <option v-if="any" value="">{{ any }}</option>
      <option v-for="option in options" :key="option.value" :value="option.value">{{ option.words }}</option>
    </select>
  </span>
</template>
