<script setup lang="ts">
/** One upstream of the inventory: when it was looked at, what should be known, its models. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { useOffer } from '@/api/connecting'
import { dataSize } from '@/lib/format'
import { paths } from '@/lib/paths'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import ServedTable from './ServedTable.vue'

const props = defineProps<{ line: Schemas['InventoryLine'] }>()
const offer = useOffer(() => props.line.upstream)
const further = computed(() => {
  const version = props.line.server_version ? `, version ${props.line.server_version}` : ''
  return version + (props.line.loaded_bytes == null ? '' : `, ${dataSize(props.line.loaded_bytes)} loaded`)
})
const matters = computed(() => props.line.models.flatMap((model) => (model.says ? [model.says] : [])))
</script>

<template>
  <section :aria-label="line.upstream">
    <h2>
      <RouterLink :to="paths.upstream(line.upstream)">{{ line.upstream }}</RouterLink>
      <span class="second">
        <template v-if="line.looked_at">looked at <TimeAgo :at="line.looked_at" />{{ further }}</template>
        <template v-else>not checked yet</template>
      </span>
      <RouterLink class="right" :to="paths.check(line.upstream)">Check it</RouterLink>
    </h2>
    <p v-if="line.held_back" class="second pt-1.5">{{ line.held_back }}.</p>
    <p v-if="line.failed" class="pt-1.5">
      <StateWord word="failing" /> The last check failed: {{ line.failed }}. The models below are from the check before.
    </p>
    <p v-for="matter in matters" :key="matter" class="pt-1.5">
      <StateWord word="needs attention" shape="limit" /> {{ matter }}
    </p>
    <p v-if="offer.error.value" class="text-attention pt-1.5" role="alert">{{ offer.error.value.message }}</p>
    <p v-if="line.models.length === 0" class="second pt-1.5">It lists no models, and none is offered.</p>
    <ServedTable
      v-else
      :line="line"
      :is-busy="offer.isPending.value"
      @offer="(model) => offer.mutateAsync([model]).catch(() => undefined)"
    />
  </section>
</template>
