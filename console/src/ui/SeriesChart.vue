<script setup lang="ts">
/** A figure over time as columns from zero, with the time before as a thin line behind. Each column leads to what it is made of. */
import { scaleBand, scaleLinear } from 'd3-scale'
import { line } from 'd3-shape'
import { computed } from 'vue'
import { RouterLink, type RouteLocationRaw } from 'vue-router'

export interface SeriesPoint {
  id: string
  /** What stands under the column; empty where it would be too dense. */
  tick: string
  value: number
  before: number
  /** The whole story of this column. */
  words: string
  to: RouteLocationRaw
}

const props = defineProps<{
  points: readonly SeriesPoint[]
  unit: string
  shown: (value: number) => string
  words: string
}>()

const WIDTH = 1040
const HEIGHT = 190
const LEFT = 64
const RIGHT = 64
const BOTTOM = 24
const TOP = 26
/** A column wider than this says no more. */
const WIDEST = 44

const x = computed(() =>
  scaleBand(
    props.points.map((point) => point.id),
    [LEFT, WIDTH - RIGHT],
  ).padding(0.22),
)
const thick = computed(() => Math.min(WIDEST, x.value.bandwidth()))
const most = computed(() => Math.max(...props.points.flatMap((point) => [point.value, point.before]), 0))
const y = computed(() => scaleLinear([0, most.value || 1], [HEIGHT - BOTTOM, TOP]).nice(4))
const ticks = computed(() => y.value.ticks(4))
const middle = (id: string) => (x.value(id) ?? 0) + x.value.bandwidth() / 2
/** From where on there was something before: what was not recorded yet is not drawn at nought. */
const begins = computed(() => props.points.findIndex((point) => point.before > 0))
const before = computed(() => {
  const path = line<SeriesPoint>(
    (point) => middle(point.id),
    (point) => y.value(point.before),
  )
  return begins.value < 0 ? '' : (path(props.points.slice(begins.value)) ?? '')
})
const last = computed(() => props.points.at(-1))
</script>

<template>
  <div class="overflow-x-auto" tabindex="0" role="region" :aria-label="words">
    <svg :width="WIDTH" :height="HEIGHT">
      <g v-for="value in ticks" :key="value">
        <line
          :x1="LEFT"
          :x2="WIDTH - RIGHT"
          :y1="y(value)"
          :y2="y(value)"
          :class="value === 0 ? 'stroke-rule-strong' : 'stroke-rule'"
        />
        <text :x="LEFT - 8" :y="y(value) + 4" class="axis" text-anchor="end">{{ shown(value) }}</text>
      </g>
      <text :x="LEFT - 8" :y="TOP - 13" class="axis" text-anchor="end">{{ unit }}</text>
      <RouterLink v-for="point in points" :key="point.id" v-slot="{ href, navigate }" :to="point.to" custom>
        <a :href="href" :aria-label="point.words" class="group" @click="navigate">
          <title>{{ point.words }}</title>
          <rect :x="x(point.id)" :y="TOP" :width="x.bandwidth()" :height="HEIGHT - BOTTOM - TOP" fill="transparent" />
          <rect
            :x="middle(point.id) - thick / 2"
            :y="y(point.value)"
            :width="thick"
            :height="y(0) - y(point.value)"
            class="fill-rule-strong group-hover:fill-accent group-focus:fill-accent"
          />
        </a>
      </RouterLink>
      <path :d="before" fill="none" class="stroke-ink pointer-events-none" stroke-width="1" stroke-dasharray="3 2" />
      <g v-for="point in points" :key="`${point.id}-tick`">
        <text v-if="point.tick" :x="middle(point.id)" :y="HEIGHT - 6" class="axis" text-anchor="middle">
          {{ point.tick }}
        </text>
      </g>
      <text v-if="last" :x="WIDTH - RIGHT + 4" :y="y(last.before) + 4" class="axis">previous</text>
    </svg>
  </div>
</template>
