<script setup lang="ts">
/** What does each server serve now, beside what is promised, and what changed? For whoever runs the servers. From `/inventory`. */
import { computed } from 'vue'
import { useInventory, useRefreshInventory } from '@/api/connecting'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import InventorySection from './InventorySection.vue'

const inventory = useInventory()
const refresh = useRefreshInventory()
const lines = computed(() => {
  const matter = (line: { models: { says?: string | null }[]; failed?: string | null }) =>
    Number(line.failed != null || line.models.some((model) => model.says))
  return [...(inventory.data.value?.upstreams ?? [])].sort((a, b) => matter(b) - matter(a))
})
const events = computed(() => inventory.data.value?.events.slice(0, 12) ?? [])
</script>

<template>
  <PageHead title="Models">
    <button class="follow" :disabled="refresh.isPending.value" @click="refresh.mutateAsync().catch(() => undefined)">
      {{ refresh.isPending.value ? 'Checking ..' : 'Check now' }}
    </button>
  </PageHead>
  <p v-if="refresh.error.value" class="text-attention" role="alert">{{ refresh.error.value.message }}</p>
  <FourStates
    what="what upstreams serve"
    :query="inventory"
    :is-empty="lines.length === 0"
    @retry="inventory.refetch()"
  >
    <template #empty>
      No upstream is added yet, so no model is known. <RouterLink :to="paths.start">Add the first one</RouterLink>
    </template>
    <InventorySection v-for="line in lines" :key="line.upstream" :line="line" />
    <h2>Recent changes</h2>
    <p v-if="events.length === 0" class="second pt-1.5">No changes since the first check.</p>
    <ul v-else class="pt-1.5">
      <li v-for="event in events" :key="`${event.at} ${event.says}`">
        <span class="second"><TimeAgo :at="event.at" /></span> {{ event.says }}.
      </li>
    </ul>
  </FourStates>
</template>
