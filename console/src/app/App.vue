<script setup lang="ts">
/** The sign-in stands alone; every other page stands in the shell. */
import { useRoute } from 'vue-router'
import AppShell from './AppShell.vue'

const route = useRoute()
</script>

<template>
  <RouterView v-if="route.meta.isOpen" />
  <AppShell v-else-if="route.matched.length > 0" />
</template>
