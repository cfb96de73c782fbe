<script setup lang="ts">
/** The head of a page: what it is, and at its right what belongs to all of it. */
defineProps<{ title: string }>()
</script>

<template>
  <header class="mb-3.5 flex flex-wrap items-baseline gap-x-4.5 gap-y-1">
    <h1 tabindex="-1">{{ title }}</h1>
    <div class="second ml-auto flex flex-wrap items-baseline gap-x-4.5 text-small"><slot /></div>
  </header>
</template>
