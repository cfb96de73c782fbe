<script setup lang="ts">
/** Somebody tried to sign in as whoever has signed in now: told once, right after. */
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { grouped } from '@/lib/format'
import { paths } from '@/lib/paths'

const props = defineProps<{ me: Schemas['Me'] }>()
const isRead = ref(false)
const times = computed(() => {
  const wrong = props.me.wrong_before ?? 0
  return wrong === 1 ? 'once' : `${grouped(wrong)} times`
})
</script>

<template>
  <p v-if="!isRead" class="text-caution mb-3" role="status">
    A wrong password or code was given for you {{ times }} before you signed in. If that was not you, set
    <RouterLink :to="paths.you" class="underline">another password</RouterLink
    ><template v-if="!me.team"
      >; the
      <RouterLink
        class="underline"
        :to="{ path: paths.audit, query: { action: 'sign-in-refused', subject: `person ${me.name}` } }"
        >audit</RouterLink
      >
      says from where it came</template
    >. <button class="underline" @click="isRead = true">I have read it</button>
  </p>
</template>
