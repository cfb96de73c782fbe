<script setup lang="ts">
/** Small columns, one a day, the last one solid: how a figure went, without an axis. */
import { computed } from 'vue'
import { drawn } from '@/lib/scale'

const props = defineProps<{ amounts: readonly { day: string; cost: string }[]; words: string }>()
const STEP = 4
const HEIGHT = 18
const columns = computed(() => {
  const most = Math.max(...props.amounts.map((one) => drawn(one.cost)), Number.MIN_VALUE)
  return props.amounts.map((one, index) => ({
    day: one.day,
    x: index * STEP,
    height: (drawn(one.cost) / most) * (HEIGHT - 1),
    isLast: index === props.amounts.length - 1,
  }))
})
</script>

<template>
  <svg :width="amounts.length * STEP" :height="HEIGHT" role="img" :aria-label="words" class="block">
    <title>{{ words }}</title>
    <rect
      v-for="column in columns"
      :key="column.day"
      :x="column.x"
      :y="HEIGHT - column.height"
      :width="STEP - 1"
      :height="column.height"
      :class="column.isLast ? 'fill-ink' : 'fill-rule-strong'"
    />
  </svg>
</template>
