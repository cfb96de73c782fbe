<script setup lang="ts">
/** The chosen figure over time, with the previous period behind it. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { dayName } from '@/lib/format'
import { requestsBehind } from '@/lib/paths'
import SeriesChart, { type SeriesPoint } from '@/ui/SeriesChart.vue'
import type { Measure } from './measures'

const props = defineProps<{ usage: Schemas['Usage']; measure: Measure }>()

/** Words under the columns at most, so that they do not touch. */
const TICKS = 12

const isByDay = computed(() => props.usage.by === 'day')

function tick(name: string, index: number, every: number): string {
  if (index % every !== 0) return ''
  const at = new Date(isByDay.value ? `${name}T00:00:00Z` : name.replace('Z', ':00Z'))
  return isByDay.value ? `${at.getUTCDate()}` : name.slice(11, 16)
}

function words(line: Schemas['UsageLine']): string {
  const when = isByDay.value
    ? dayName(new Date(`${line.name}T00:00:00Z`))
    : `${line.name.slice(0, 10)} ${line.name.slice(11, 16)}`
  const { shown } = props.measure
  return `${when}: ${shown(line, props.usage.currency)}, previous period ${shown(line.before, props.usage.currency)}`
}

const points = computed<SeriesPoint[]>(() => {
  const every = Math.ceil(props.usage.lines.length / TICKS)
  return props.usage.lines.map((line, index) => ({
    id: line.name,
    tick: tick(line.name, index, every),
    value: props.measure.value(line),
    before: props.measure.value(line.before),
    words: words(line),
    to: requestsBehind(line.requests_query),
  }))
})
</script>

<template>
  <SeriesChart
    :points="points"
    :unit="measure.unit(usage.currency)"
    :shown="measure.tick"
    :words="`${measure.words} by ${usage.by}; the dashed line is the previous period`"
  />
</template>
