<script setup lang="ts">
/** An instant as it is seen from now; the exact one on hover. */
import { computed } from 'vue'
import { ago, hoursAgo, instant } from '@/lib/format'
import { useClock } from './clock'

/** `hour`: only the hour is known that begins there. */
const props = defineProps<{ at: string; hour?: boolean }>()
const now = useClock()
const at = computed(() => new Date(props.at))
const exact = computed(() => (props.hour ? `in the hour from ${instant(at.value)}` : instant(at.value)))
const passed = computed(() =>
  props.hour ? hoursAgo(now.value - at.value.getTime()) : ago(now.value - at.value.getTime()),
)
</script>

<template>
  <time :datetime="props.at" :title="exact" class="tabular-nums">{{ passed }}</time>
</template>
