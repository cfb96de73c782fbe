<script setup lang="ts">
/** The parts of one lane of a strip, drawn into a picture: dotted = queued, line from a tick = waiting, cross = failed, ring = given up since
 * another answered, tall tick = first token, bar = streaming, then how it ended. */
import type { Lane } from '@/lib/strip'

const props = defineProps<{ lane: Lane; y: number; half: number; at: (ms: number) => number }>()
const reach = props.half + 3
const endReach = props.half + 2
</script>

<template>
  <g>
    <template v-for="part in lane.parts" :key="part.id">
      <line
        v-if="part.kind === 'queue'"
        :x1="at(part.from)"
        :x2="at(part.to)"
        :y1="y"
        :y2="y"
        class="stroke-ink-2"
        stroke-width="2"
        stroke-dasharray="1 4"
        stroke-linecap="round"
      />
      <template v-if="part.kind === 'wait' || part.kind === 'failed' || part.kind === 'left'">
        <line :x1="at(part.from)" :x2="at(part.to)" :y1="y" :y2="y" class="stroke-ink" stroke-width="1.5" />
        <line
          :x1="at(part.from)"
          :x2="at(part.from)"
          :y1="y - half"
          :y2="y + half"
          class="stroke-ink"
          stroke-width="1.5"
        />
      </template>
      <path
        v-if="part.kind === 'failed'"
        :d="`M${at(part.to) - 4} ${y - 4}l8 8m0-8l-8 8`"
        class="stroke-attention"
        stroke-width="2"
        fill="none"
      />
      <circle
        v-if="part.kind === 'left'"
        :cx="at(part.to) + 3"
        :cy="y"
        r="3"
        class="stroke-ink-2"
        stroke-width="1.5"
        fill="none"
      />
      <template v-if="part.kind === 'stream'">
        <rect
          :x="at(part.from)"
          :y="y - half"
          :width="Math.max(1, at(part.to) - at(part.from))"
          :height="2 * half"
          class="fill-accent"
        />
        <line
          :x1="at(part.from)"
          :x2="at(part.from)"
          :y1="y - reach"
          :y2="y + reach"
          class="stroke-ink"
          stroke-width="1.5"
        />
      </template>
    </template>
    <g :transform="`translate(${at(lane.endsAt)} ${y})`" fill="none">
      <path v-if="lane.end === 'proper'" :d="`M1 ${-endReach}V${endReach}`" class="stroke-ink" stroke-width="2.5" />
      <path
        v-if="lane.end === 'cap'"
        :d="`M0 ${-endReach}h5v${2 * endReach}h-5`"
        class="stroke-caution"
        stroke-width="2"
      />
      <path
        v-if="lane.end === 'cancelled'"
        :d="`M1 ${-endReach}l7 ${endReach}l-7 ${endReach}`"
        class="stroke-ink-2"
        stroke-width="1.5"
      />
      <path
        v-if="lane.end === 'cut'"
        :d="`M0 ${-endReach}l4 ${endReach * 0.66}l-4 ${endReach * 0.66}l4 ${endReach * 0.66}`"
        class="stroke-attention"
        stroke-width="2"
      />
    </g>
  </g>
</template>
