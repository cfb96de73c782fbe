<script setup lang="ts">
/** An address where nothing is. */
import { useRoute } from 'vue-router'
import { paths } from '@/lib/paths'
import PageHead from '@/ui/PageHead.vue'

const route = useRoute()
</script>

<template>
  <PageHead title="Page not found" />
  <p>
    There is no page at <span class="mono">{{ route.path }}</span>. Look at
    <RouterLink :to="paths.now">what happens now</RouterLink>, or press Ctrl K and type what you are looking for.
  </p>
</template>
