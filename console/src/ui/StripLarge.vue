<script setup lang="ts">
/** A request as a line in time with a lane for each attempt, the reason beside each cross, and an axis in seconds. */
import { scaleLinear } from 'd3-scale'
import { computed } from 'vue'
import { duration } from '@/lib/format'
import { lanesOf, stripWords, type Lane, type StripTimes, type StripTry } from '@/lib/strip'
import StripMark from './StripMark.vue'

const props = defineProps<{ times: StripTimes; tries: readonly StripTry[]; offer: string; rate?: string }>()

const WIDTH = 1040
const NAMES = 210
/** Room at the right for the mark of the end and what stands behind it. */
const RIGHT = 120
const LANE = 34

const lanes = computed(() => lanesOf(props.times, props.tries, props.offer))
const height = computed(() => lanes.value.length * LANE + 30)
const scale = computed(() => scaleLinear([0, Math.max(1, props.times.whole_ms)], [NAMES, WIDTH - RIGHT]).nice(6))
const at = (ms: number) => scale.value(ms)
const ticks = computed(() => scale.value.ticks(6))
const tick = (ms: number) => (ms === 0 ? '0 s' : ms % 1_000 === 0 ? `${ms / 1_000} s` : duration(ms))
const middle = (index: number) => index * LANE + LANE / 2

/** Where a lane's words stand: behind a cross, above a wait, behind the end. */
function words(lane: Lane) {
  return lane.parts.flatMap((part) => {
    if (!part.note) return []
    const isFailure = part.kind === 'failed'
    const isBehind = isFailure || part.kind === 'left' || part.kind === 'queue'
    const room = at(part.to) - at(part.from)
    if (!isBehind && room < 100)
      return [{ id: part.id, text: part.note, x: at(part.from) - 6, dy: -7, isFailure, anchor: 'end' }]
    const x = isBehind ? at(part.to) + 12 : (at(part.from) + at(part.to)) / 2
    return [
      { id: part.id, text: part.note, x, dy: isBehind ? 5 : -7, isFailure, anchor: isBehind ? 'start' : 'middle' },
    ]
  })
}
</script>

<template>
  <div class="overflow-x-auto" tabindex="0" role="region" aria-label="The request in time">
    <svg :width="WIDTH" :height="height" role="img" :aria-label="stripWords(times, tries)">
      <g v-for="ms in ticks" :key="ms">
        <line :x1="at(ms)" :x2="at(ms)" y1="0" :y2="height - 24" class="stroke-rule" />
        <text :x="at(ms)" :y="height - 8" class="axis" text-anchor="middle">{{ tick(ms) }}</text>
      </g>
      <g v-for="(lane, index) in lanes" :key="lane.id">
        <text x="0" :y="middle(index) + 5" class="fill-ink text-body">{{ lane.name }}</text>
        <line
          v-if="index > 0"
          :x1="at(lane.parts[0]?.from ?? 0)"
          :x2="at(lane.parts[0]?.from ?? 0)"
          :y1="middle(index - 1)"
          :y2="middle(index)"
          class="stroke-ink-3"
          stroke-dasharray="1 2"
        />
        <StripMark :lane="lane" :y="middle(index)" :half="7" :at="at" />
        <text
          v-for="note in words(lane)"
          :key="note.id"
          :x="note.x"
          :y="middle(index) + note.dy"
          class="text-small"
          :class="note.isFailure ? 'fill-attention' : 'fill-ink-2'"
          :text-anchor="note.anchor"
        >
          {{ note.text }}
        </text>
        <text
          v-if="rate && lane.id === 'answer'"
          :x="at(lane.endsAt) + 14"
          :y="middle(index) + 5"
          class="fill-ink-2 text-small"
        >
          {{ rate }}
        </text>
      </g>
    </svg>
  </div>
</template>
