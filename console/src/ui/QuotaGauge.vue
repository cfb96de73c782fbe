<script setup lang="ts">
/** One quota in one bar: solid = used, hatched = reserved, outline = left, a tick = expected by the end. The tick stands outside the bar when
 * it passes the limit. */
import { computed, useId } from 'vue'
import { drawn } from '@/lib/scale'

const props = defineProps<{
  used: string
  reserved: string
  limit: string
  expected?: string | null
  width?: number
  words: string
}>()

/** Past twice the limit a tick tells no more. */
const FARTHEST = 2
const hatch = useId()
const width = computed(() => props.width ?? 210)
const limit = computed(() => drawn(props.limit) || 1)
const expected = computed(() => (props.expected ? Math.min(drawn(props.expected), limit.value * FARTHEST) : undefined))
const end = computed(
  () => Math.max(limit.value, expected.value ?? 0, Math.min(drawn(props.used), limit.value * FARTHEST)) * 1.02,
)
const at = (value: number) => (Math.min(value, end.value) / end.value) * (width.value - 2)
const used = computed(() => at(drawn(props.used)))
const reserved = computed(() => Math.max(0, at(drawn(props.used) + drawn(props.reserved)) - used.value))
const isNear = computed(() => drawn(props.used) / limit.value >= 0.9)
const isPast = computed(() => expected.value !== undefined && expected.value > limit.value)
</script>

<template>
  <svg :width="width" height="14" role="img" :aria-label="words" class="block">
    <title>{{ words }}</title>
    <defs>
      <pattern :id="hatch" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <line y1="0" y2="4" class="stroke-ink-2" stroke-width="1.6" />
      </pattern>
    </defs>
    <rect x=".5" y="3.5" :width="at(limit)" height="7" fill="none" class="stroke-rule-strong" />
    <rect x=".5" y="3.5" :width="used" height="7" :class="isNear ? 'fill-caution' : 'fill-ink'" />
    <rect :x="used" y="3.5" :width="reserved" height="7" :fill="`url(#${hatch})`" />
    <path
      v-if="expected !== undefined"
      :d="`M${at(expected)} 0v14`"
      :class="isPast ? 'stroke-attention' : 'stroke-ink-2'"
      stroke-width="2"
    />
    <path :d="`M${at(limit) + 0.5} 1v12`" class="stroke-ink" />
  </svg>
</template>
