<script setup lang="ts">
/** A request as a line in a list. All strips of a list share one scale, which its heading states. */
import { computed } from 'vue'
import { lanesOf, stripWords, type StripTimes, type StripTry } from '@/lib/strip'
import StripMark from './StripMark.vue'

const props = defineProps<{
  times: StripTimes
  tries?: readonly StripTry[]
  spanMs: number
  width?: number
  words?: string
}>()

/** Room for the mark of the end. */
const END = 12
const width = computed(() => props.width ?? 300)
const lanes = computed(() => lanesOf(props.times, props.tries ?? [], ''))
const label = computed(() => props.words ?? stripWords(props.times, props.tries ?? []))
const at = (ms: number) => 1 + (Math.min(ms, props.spanMs) / props.spanMs) * (width.value - END)
</script>

<template>
  <svg :width="width" height="16" role="img" :aria-label="label" class="block">
    <title>{{ label }}</title>
    <StripMark v-for="lane in lanes" :key="lane.id" :lane="lane" :y="8" :half="4" :at="at" />
  </svg>
</template>
