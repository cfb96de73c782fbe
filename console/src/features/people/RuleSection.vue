<script setup lang="ts">
/** Of whom codes are asked: owners say it by role. */
import { computed, ref, watch } from 'vue'
import { useSetSignInRule } from '@/api/changes'
import { useSignInRule } from '@/api/resources'
import { listed } from '@/lib/format'
import FourStates from '@/ui/FourStates.vue'
import { ROLES } from './words'

defineProps<{ canChange: boolean }>()
const rule = useSignInRule()
const set = useSetSignInRule()
const chosen = ref<string[]>([])
watch(
  () => rule.data.value,
  (now) => (chosen.value = [...(now?.codes_required ?? [])]),
  { immediate: true },
)
const inForce = computed(() => rule.data.value?.codes_required ?? [])
const isOther = computed(() => chosen.value.slice().sort().join() !== inForce.value.slice().sort().join())
const words = computed(() =>
  inForce.value.length === 0
    ? 'An authenticator app is optional for everybody.'
    : `Of every ${listed(inForce.value)} an authenticator app is asked: whoever has none sets it up before anything else.`,
)
</script>

<template>
  <section>
    <h2>Who must have an authenticator app</h2>
    <FourStates what="the rule" :query="rule" @retry="rule.refetch()">
      <p class="mb-2">{{ words }}</p>
      <form
        v-if="canChange"
        class="flex flex-wrap items-baseline gap-5"
        @submit.prevent="set.mutate({ codes_required: chosen })"
      >
        <label v-for="role in ROLES" :key="role" class="flex items-baseline gap-1.5">
          <input v-model="chosen" type="checkbox" :value="role" /> every {{ role }}
        </label>
        <button class="button quiet" :disabled="!isOther || set.isPending.value">Put in force</button>
      </form>
      <p v-if="set.error.value" class="text-attention mt-2" role="alert">{{ set.error.value.message }}</p>
    </FourStates>
  </section>
</template>
