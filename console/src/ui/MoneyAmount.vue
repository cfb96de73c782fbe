<script setup lang="ts">
/** An amount of money: rounded to where it can be read, all its digits on hover and focus. */
import { computed } from 'vue'
import { money } from '@/lib/format'

const props = defineProps<{ amount: string | null | undefined; places?: number; currency?: string }>()
const shown = computed(() =>
  props.amount === null || props.amount === undefined ? 'unpriced' : money(props.amount, props.places ?? 2),
)
const exact = computed(() =>
  props.amount ? `${props.amount} ${props.currency ?? ''}`.trim() : 'this offer has no rate',
)
</script>

<template>
  <span :title="exact">{{ shown }}</span>
</template>
