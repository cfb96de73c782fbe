<script setup lang="ts">
/** A field of several lines with its label above, a hint, and what is wrong with its value below. */
import { useId } from 'vue'

defineProps<{ label: string; hint?: string; problem?: string | undefined; rows?: number }>()
const value = defineModel<string>({ required: true })
const id = useId()
</script>

<template>
  <div>
    <label :for="id" class="mb-1 block font-medium">{{ label }}</label>
    <textarea
      :id="id"
      v-model="value"
      class="field"
      :rows="rows ?? 3"
      :aria-describedby="`${id}-hint`"
      :aria-invalid="problem !== undefined"
    />
    <p :id="`${id}-hint`" class="text-small mt-1" :class="problem ? 'text-attention' : 'second'">
      {{ problem ?? hint }}
    </p>
  </div>
</template>
