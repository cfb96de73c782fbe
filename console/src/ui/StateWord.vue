<script setup lang="ts">
/** A state as a shape, a word, and only then a colour: filled = well, half = degraded, cross = failing, triangle = near a limit, ring = off. */
import { computed } from 'vue'

type Shape = 'well' | 'degraded' | 'failing' | 'limit' | 'off'

const props = defineProps<{ word: string; quiet?: boolean; shape?: Shape | undefined }>()

const SHAPES: Record<string, Shape> = {
  well: 'well',
  good: 'well',
  answered: 'well',
  proper: 'well',
  degraded: 'degraded',
  'on trial': 'degraded',
  drained: 'degraded',
  'output-cap': 'degraded',
  failing: 'failing',
  'over limit': 'limit',
  'near limit': 'limit',
  warns: 'limit',
  'not-answered': 'failing',
  abandoned: 'failing',
  'not-taken': 'off',
  'cut-off': 'failing',
  rejected: 'failing',
  refused: 'failing',
}
const COLOURS: Record<Shape, string> = {
  well: 'text-well-being',
  degraded: 'text-caution',
  failing: 'text-attention',
  limit: 'text-caution',
  off: 'text-ink-3',
}
const drawn = computed<Shape>(() => props.shape ?? SHAPES[props.word] ?? 'off')
const colour = computed(() => COLOURS[drawn.value])
</script>

<template>
  <span class="whitespace-nowrap">
    <svg width="12" height="12" aria-hidden="true" :class="colour" class="mr-1.5 inline-block align-baseline">
      <circle v-if="drawn === 'well'" cx="6" cy="6" r="4.5" fill="currentColor" />
      <template v-else-if="drawn === 'degraded'">
        <circle cx="6" cy="6" r="4.5" fill="none" stroke="currentColor" stroke-width="1.5" />
        <path d="M6 1.5A4.5 4.5 0 0 0 6 10.5Z" fill="currentColor" />
      </template>
      <path v-else-if="drawn === 'failing'" d="M2 2L10 10M10 2L2 10" stroke="currentColor" stroke-width="2.2" />
      <path v-else-if="drawn === 'limit'" d="M6 1.2L11 10.5H1Z" fill="none" stroke="currentColor" stroke-width="1.6" />
      <circle v-else cx="6" cy="6" r="4.5" fill="none" stroke="currentColor" stroke-width="1.5" />
    </svg>
    <span :class="quiet ? 'text-ink' : colour">{{ word }}</span>
  </span>
</template>
