<script setup lang="ts">
/** A word by which a list is narrowed as it is typed; not there while the list is short. */
import { useId } from 'vue'

defineProps<{ shown: boolean; count: number }>()
const word = defineModel<string>({ required: true })
const id = useId()
</script>

<template>
  <p v-if="shown" role="search" class="mb-2 flex items-baseline gap-1.5">
    <label :for="id" class="second text-small">Narrow to</label>
    <input :id="id" v-model="word" class="filter w-40" autocomplete="off" placeholder="part of a name" />
    <span v-if="word" class="second text-small" role="status">{{ count }} {{ count === 1 ? 'line' : 'lines' }}</span>
  </p>
</template>
