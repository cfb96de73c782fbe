<script setup lang="ts">
/** A one-time sign-in, to be passed on. */
import type { Schemas } from '@/api/client'
import { instant } from '@/lib/format'
import CopyBlock from '@/ui/CopyBlock.vue'

defineProps<{ given: Schemas['AddedPerson'] }>()
const emit = defineEmits<{ close: [] }>()
</script>

<template>
  <div class="grid gap-3">
    <p>
      Give it to {{ given.name }} over a way that others do not read. It works once, until
      {{ instant(new Date(given.expires_at)) }}, here or with <span class="mono">wendor sign-in</span>. Earlier ones
      work no more.
    </p>
    <CopyBlock :text="given.one_time" what="the sign-in" />
    <p><button class="button" @click="emit('close')">I have it</button></p>
  </div>
</template>
