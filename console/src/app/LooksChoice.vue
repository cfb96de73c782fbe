<script setup lang="ts">
/** Light, dark or as the system has it; comfortable or compact. */
import { density, theme } from './preferences'
import FilterChoice from '@/ui/FilterChoice.vue'

const THEMES = [
  { value: 'system', words: 'as the system' },
  { value: 'light', words: 'light' },
  { value: 'dark', words: 'dark' },
]
const DENSITIES = [
  { value: 'comfortable', words: 'comfortable' },
  { value: 'compact', words: 'compact' },
]
</script>

<template>
  <div class="flex flex-col gap-0.5">
    <FilterChoice v-model="theme" label="Looks" :options="THEMES" />
    <FilterChoice v-model="density" label="Rows" :options="DENSITIES" />
  </div>
</template>
