<script setup lang="ts">
/** Has anybody touched the record? Looked through on demand, as a chain of hashes. */
import { computed } from 'vue'
import { useVerifyAudit } from '@/api/changes'
import { grouped } from '@/lib/format'
import StateWord from '@/ui/StateWord.vue'

const verify = useVerifyAudit()
const verdict = computed(() => verify.data.value)
const faults = computed(() => verdict.value?.faults ?? [])
</script>

<template>
  <span v-if="verify.error.value" class="text-attention" role="alert">{{ verify.error.value.message }}</span>
  <span v-else-if="verdict && faults.length === 0" role="status" :title="`Head ${verdict.head}`">
    <StateWord word="whole" shape="well" quiet />: {{ grouped(verdict.entries) }} entries, hash chain intact
  </span>
  <span v-else-if="verdict" role="alert">
    <StateWord word="touched" shape="failing" />:
    {{
      faults
        .slice(0, 3)
        .map((fault) => fault.words)
        .join('; ')
    }}{{ faults.length > 3 ? ` and ${grouped(faults.length - 3)} more` : '' }}
  </span>
  <button class="follow" :disabled="verify.isPending.value" @click="verify.mutate(undefined)">
    {{ verify.isPending.value ? 'Verifying …' : 'Verify' }}
  </button>
</template>
