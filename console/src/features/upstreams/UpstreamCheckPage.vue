<script setup lang="ts">
/** Why does this upstream not answer, and what can be done? For whoever added it and the one on call. From `/upstreams/check`. */
import { computed, onMounted, ref } from 'vue'
import { Problem } from '@/api/client'
import { useMend, useProofCost } from '@/api/connecting'
import { useCheck } from '@/api/watchedCheck'
import { hostOf, outcome, type RemedySeen } from '@/lib/checks'
import { took } from '@/lib/format'
import { duration, grouped, money } from '@/lib/format'
import { paths } from '@/lib/paths'
import CheckSteps from '@/ui/CheckSteps.vue'
import { useClock } from '@/ui/clock'
import FilterChoice from '@/ui/FilterChoice.vue'
import PageHead from '@/ui/PageHead.vue'

const props = defineProps<{ name: string }>()
const check = useCheck()
const mend = useMend(() => props.name)
const proof = useProofCost()
const now = useClock()
const isConsenting = ref(false)
/** How long it may take; the service's own choice when empty. */
const TIMES = [
  { value: '', words: '10 s, a minute for abilities' },
  { value: '60000', words: '1 min' },
  { value: '300000', words: '5 min' },
]
const time = ref('')
const timeout = computed(() => (time.value === '' ? null : Number(time.value)))
const report = computed(() => check.data.value)
const isBusy = computed(() => check.isPending.value || mend.isPending.value)
const sentence = computed(() => {
  if (isBusy.value) return `Checking, ${duration(Math.max(0, now.value - check.submittedAt.value))}.`
  return report.value ? `${outcome(report.value.steps)} It took ${took(report.value.took_us)}.` : ''
})
const problem = computed(() => check.error.value ?? mend.error.value ?? proof.error.value)
const cost = computed(() => proof.data.value)
const worst = computed(() => {
  if (!cost.value) return ''
  const tokens = `${grouped(cost.value.input_tokens)} tokens in and ${grouped(cost.value.output_tokens)} out`
  const most =
    cost.value.money == null
      ? 'unpriced, so the cost is unknown'
      : `at most ${money(cost.value.money, 4)} ${cost.value.currency}`
  return `Up to ${cost.value.calls} questions to ${cost.value.model ?? 'a model'}, ${tokens}: ${most}.`
})

const ignore = () => undefined
const look = () => check.mutateAsync({ name: props.name, timeout_ms: timeout.value }).catch(ignore)

async function consider() {
  await proof.mutateAsync({ name: props.name })
  isConsenting.value = true
}

async function prove() {
  isConsenting.value = false
  const unpriced = cost.value?.money == null
  await check.mutateAsync({ name: props.name, prove: true, unpriced, timeout_ms: timeout.value })
}

async function apply(remedy: RemedySeen, value: string | undefined) {
  const all = (report.value?.steps ?? []).flatMap((step) => step.findings).flatMap((finding) => finding.remedies)
  const line = all.find((one) => one.number != null && one.number === remedy.number)
  if (!line?.change) throw new Problem(0, 'Gone', 'This remedy is from an earlier check; check again.', undefined)
  // The remedy names the host that it leads to; whoever applies it means that one.
  const change = line.change as unknown as { setting: string; to?: unknown }
  const toHost = change.setting === 'address' && typeof change.to === 'string' ? hostOf(change.to) : null
  await mend.mutateAsync({ change: line.change, value: value ?? null, to_host: toHost })
  await look()
}

onMounted(look)
</script>

<template>
  <PageHead :title="`Check of ${name}`"><RouterLink :to="paths.upstream(name)">The upstream</RouterLink></PageHead>
  <p class="text-lead mb-3 max-w-4xl" role="status">{{ sentence }}</p>
  <p v-if="problem" class="text-attention mb-3" role="alert">{{ problem.message }}</p>
  <div class="max-w-4xl">
    <CheckSteps
      :steps="check.steps.value"
      :is-busy="isBusy"
      @apply="(remedy, value) => apply(remedy, value).catch(ignore)"
    />
    <div v-if="isConsenting" class="bg-well border-caution mt-3 border-l-2 px-3.5 py-2.5" role="status">
      <p class="mb-2">{{ worst }} The team of whoever runs it pays; it is recorded in the ledger.</p>
      <p class="flex gap-2.5">
        <button class="button" @click="prove().catch(ignore)">Run it</button>
        <button class="button quiet" @click="isConsenting = false">Cancel</button>
      </p>
    </div>
    <p class="mt-4 flex flex-wrap items-center gap-2.5">
      <button v-if="check.isPending.value" class="button" @click="check.stop">Stop</button>
      <button v-else class="button" :disabled="isBusy" @click="look">Check again</button>
      <button class="button quiet" :disabled="isBusy || isConsenting" @click="consider().catch(ignore)">
        Prove its abilities
      </button>
      <FilterChoice v-model="time" label="It may take" :options="TIMES" />
    </p>
  </div>
</template>
