<script setup lang="ts">
/** The head of a column that sorts its list: pressed again the other way, and a third time as it was. */
import { computed } from 'vue'
import type { ListOrder } from './useList'

const props = defineProps<{ order: ListOrder; column: string; number?: boolean }>()
const isChosen = computed(() => props.order.by.value === props.column)
const direction = computed(() => (props.order.isDown.value ? 'descending' : 'ascending'))
</script>

<template>
  <th scope="col" :class="{ num: number }" :aria-sort="isChosen ? direction : undefined">
    <button class="sort" @click="order.toggle(column, number === true)">
      <slot /><span aria-hidden="true">{{ isChosen ? (direction === 'descending' ? ' ↓' : ' ↑') : '' }}</span>
    </button>
  </th>
</template>
