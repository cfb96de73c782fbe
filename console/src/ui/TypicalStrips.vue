<script setup lang="ts">
/** A typical and a slow request of many, as two strips on one scale. */
import { computed } from 'vue'
import { duration } from '@/lib/format'
import { spanOfStrips, spanWords } from '@/lib/requests'
import StripSmall from './StripSmall.vue'

interface Times {
  typical_ms?: number | null
  slow_ms?: number | null
}

const props = defineProps<{ firstToken: Times; whole: Times; spanMs?: number; width?: number }>()
const times = (first: number | null | undefined, whole: number | null | undefined) => ({
  admitted_ms: 0,
  answering_ms: 0,
  first_token_ms: first ?? null,
  whole_ms: Math.max(whole ?? 0, first ?? 0),
  end: 'typical',
})
const strips = computed(() => [
  { name: 'typical', times: times(props.firstToken.typical_ms, props.whole.typical_ms) },
  { name: 'slow', times: times(props.firstToken.slow_ms, props.whole.slow_ms) },
])
const span = computed(() => props.spanMs ?? spanOfStrips(strips.value.map((strip) => strip.times)))
const words = (name: string, first: number | null, whole: number) =>
  `${name}: ${first === null ? 'no stream' : `first token after ${duration(first)}`}, whole after ${duration(whole)}`
</script>

<template>
  <dl class="strips">
    <template v-for="strip in strips" :key="strip.name">
      <dt class="text-small">{{ strip.name }}</dt>
      <dd class="flex items-center gap-3">
        <StripSmall
          :times="strip.times"
          :span-ms="span"
          :width="width ?? 260"
          :words="words(strip.name, strip.times.first_token_ms, strip.times.whole_ms)"
        />
        <span class="second text-small whitespace-nowrap tabular-nums">
          {{ strip.times.first_token_ms === null ? 'no stream' : duration(strip.times.first_token_ms) }},
          {{ duration(strip.times.whole_ms) }}
        </span>
      </dd>
    </template>
    <dt v-if="spanMs === undefined" class="sr-only">scale</dt>
    <dd v-if="spanMs === undefined" class="third text-small col-start-2">{{ spanWords(span) }}: first token, whole</dd>
  </dl>
</template>
