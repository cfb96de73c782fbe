<script setup lang="ts">
/** An instant as it is seen from now; the exact one on hover. */
import { computed } from 'vue'
import { ago, instant } from '@/lib/format'
import { useClock } from './clock'

const props = defineProps<{ at: string }>()
const now = useClock()
const at = computed(() => new Date(props.at))
</script>

<template>
  <time :datetime="props.at" :title="instant(at)" class="tabular-nums">{{ ago(now - at.getTime()) }}</time>
</template>
