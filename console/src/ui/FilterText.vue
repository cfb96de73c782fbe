<script setup lang="ts">
/** One filter of a list that is typed; it takes effect with Enter or on leaving. */
import { ref, useId, watch } from 'vue'

defineProps<{ label: string; hint: string }>()
const value = defineModel<string>({ required: true })
const id = useId()
const typed = ref(value.value)
// The address may change without a key being pressed here: a link, or back.
watch(value, (now) => (typed.value = now))
</script>

<template>
  <span class="inline-flex items-baseline gap-1.5">
    <label :for="id" class="second text-small">{{ label }}</label>
    <input
      :id="id"
      v-model.trim="typed"
      class="filter w-28"
      :placeholder="hint"
      autocomplete="off"
      @change="value = typed"
      @keydown.enter="value = typed"
    />
  </span>
</template>
