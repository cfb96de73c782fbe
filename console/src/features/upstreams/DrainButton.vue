<script setup lang="ts">
/** Lets an upstream take no new requests, and takes it back. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { useDrain } from '@/api/connecting'

const props = defineProps<{ upstream: Schemas['UpstreamLine'] }>()
const drain = useDrain(() => props.upstream.name)
const says = computed(() => (props.upstream.drained ? 'Take it back' : 'Drain it'))
const hint = computed(() =>
  props.upstream.drained ? 'It takes new requests again' : 'It takes no new requests; what is under way goes on',
)
</script>

<template>
  <button
    class="follow text-small"
    :title="hint"
    :disabled="drain.isPending.value"
    @click="drain.mutate(!upstream.drained)"
  >
    {{ says }}
  </button>
  <span v-if="drain.error.value" class="text-attention text-small" role="alert">{{ drain.error.value.message }}</span>
</template>
