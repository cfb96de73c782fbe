<script setup lang="ts">
/** One step of the first run: its number and name, done, open, or waiting for the one before. */
import StateWord from '@/ui/StateWord.vue'

defineProps<{ number: number; title: string; done: string | undefined; isOpen: boolean }>()
</script>

<template>
  <section :aria-label="title" :data-step-state="done ? 'done' : isOpen ? 'open' : 'waiting'">
    <h2>
      {{ number }}. {{ title }}
      <span v-if="done" class="second"><StateWord word="done" shape="well" quiet />: {{ done }}</span>
      <span v-else-if="!isOpen" class="second">after the step before</span>
    </h2>
    <div v-if="isOpen" class="max-w-3xl pt-2.5"><slot /></div>
    <slot name="after" />
  </section>
</template>
