<script setup lang="ts">
/** A square to be scanned: rows of dark (`1`) and light (`0`) fields. Dark on light in either theme, as cameras want it. */
import { computed } from 'vue'

const props = defineProps<{ rows: readonly string[]; words: string }>()
const MARGIN = 4
const size = computed(() => props.rows.length + 2 * MARGIN)
const path = computed(() =>
  props.rows
    .flatMap((row, y) => [...row].map((field, x) => (field === '1' ? `M${x + MARGIN} ${y + MARGIN}h1v1h-1z` : '')))
    .join(''),
)
</script>

<template>
  <svg
    role="img"
    :aria-label="words"
    :viewBox="`0 0 ${size} ${size}`"
    width="220"
    height="220"
    shape-rendering="crispEdges"
  >
    <rect :width="size" :height="size" fill="#fff" />
    <path :d="path" fill="#000" />
  </svg>
</template>
