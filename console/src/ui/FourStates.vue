<script setup lang="ts">
/** The four states of anything that is fetched: waiting (with what for, and how long), empty, problem, filled. Figures that were there
 * stay while newer ones load or cannot be had, and say how old they are. */
import { computed, type Ref } from 'vue'
import { capital, ago, duration } from '@/lib/format'
import { useClock } from './clock'

const props = defineProps<{
  what: string
  query: {
    data: Readonly<Ref<unknown>>
    isError: Readonly<Ref<boolean>>
    error: Readonly<Ref<Error | null>>
    dataUpdatedAt: Readonly<Ref<number>>
    isPlaceholderData: Readonly<Ref<boolean>>
  }
  isEmpty?: boolean
}>()
const emit = defineEmits<{ retry: [] }>()

/** Below this nobody notices a wait. */
const MOMENT = 400

const now = useClock()
const began = Date.now()
const waited = computed(() => Math.max(0, now.value - began))
const state = computed(() => {
  if (props.query.data.value !== undefined) return props.isEmpty ? 'empty' : 'filled'
  return props.query.isError.value ? 'problem' : 'waiting'
})
const isOld = computed(() => props.query.isError.value && props.query.data.value !== undefined)
</script>

<template>
  <div :data-state="state" :aria-busy="state === 'waiting' || query.isPlaceholderData.value">
    <p v-if="state === 'waiting'" class="second py-3" role="status">
      <span v-if="waited > MOMENT">Waiting for {{ what }}, {{ duration(waited) }}.</span>
    </p>
    <div v-else-if="state === 'problem'" class="py-3" role="alert">
      <p class="text-attention">{{ capital(what) }} cannot be shown.</p>
      <p class="mb-2">{{ query.error.value?.message }}</p>
      <button class="button quiet" @click="emit('retry')">Try again</button>
    </div>
    <div v-else-if="state === 'empty'" class="second py-3"><slot name="empty">There is nothing here yet.</slot></div>
    <div v-else :class="{ 'opacity-70': query.isPlaceholderData.value }"><slot /></div>
    <p v-if="isOld" class="text-caution pt-2" role="status">
      These figures are of {{ ago(now - query.dataUpdatedAt.value) }}: {{ query.error.value?.message }}
      <button class="follow" @click="emit('retry')">Try again</button>
    </p>
  </div>
</template>
