<script setup lang="ts">
/** Our mark: a request as a strip. */
</script>

<template>
  <svg width="26" height="12" aria-hidden="true">
    <path d="M1 6h8M1 2v8" class="stroke-ink" stroke-width="1.6" />
    <rect x="9" y="2.5" width="14" height="7" class="fill-accent" />
    <path d="M24.5 1v10" class="stroke-ink" stroke-width="2.2" />
  </svg>
</template>
