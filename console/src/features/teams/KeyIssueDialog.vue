<script setup lang="ts">
/** Issuing a key: what it is for, which routes, how long; then the key, this once, with a first request to copy. */
import { computed, ref } from 'vue'
import { Problem, type Schemas } from '@/api/client'
import { useIssueKey } from '@/api/changes'
import { useRoutes } from '@/api/resources'
import CopyBlock from '@/ui/CopyBlock.vue'
import DialogBox from '@/ui/DialogBox.vue'
import FilterChoice from '@/ui/FilterChoice.vue'
import TextField from '@/ui/TextField.vue'
import { firstRequest } from './firstRequest'

const props = defineProps<{ team: Schemas['TeamLine'] }>()
const emit = defineEmits<{ close: [] }>()

const DAY = 86_400_000
const LIVES = [
  { value: '', words: 'no expiry' },
  { value: '30', words: '30 days' },
  { value: '90', words: '90 days' },
  { value: '365', words: 'a year' },
]

const LANES = [
  { value: 'interactive', words: 'as requests say' },
  { value: 'batch', words: 'batch: behind interactive requests' },
]

const issue = useIssueKey()
const routes = useRoutes()
const label = ref('')
const route = ref('')
const days = ref('')
const lane = ref('interactive')
const usable = computed(() => {
  const all = (routes.data.value ?? []).filter((one) => one.teams.includes(props.team.name))
  return all.map((one) => ({ value: one.name, words: one.name }))
})
const problem = computed(() => issue.error.value)
const ofLabel = computed(() =>
  problem.value instanceof Problem && problem.value.field === 'label' ? problem.value.message : undefined,
)
const issued = computed(() => issue.data.value)
const example = computed(() =>
  issued.value ? firstRequest(issued.value.key, route.value || (usable.value[0]?.value ?? 'ROUTE')) : '',
)

function submit() {
  issue.mutate({
    team: props.team.name,
    label: label.value.trim(),
    routes: route.value ? [route.value] : null,
    lane: lane.value,
    expires_at: days.value ? new Date(Date.now() + Number(days.value) * DAY).toISOString() : null,
  })
}

/** A key that is shown this once is not lost to a stray Escape or click. */
function close() {
  if (!issued.value) emit('close')
}
</script>

<template>
  <DialogBox
    open
    :wide="issued !== undefined"
    :title="issued ? 'The key, this once' : `Issue a key for ${team.name}`"
    @close="close"
  >
    <form v-if="!issued" class="grid gap-3.5" @submit.prevent="submit">
      <TextField v-model="label" label="What it is for" :problem="ofLabel" hint="For example: departure board" />
      <p class="flex gap-6">
        <FilterChoice v-model="route" label="Routes" :options="usable" any="all of its team’s" />
        <FilterChoice v-model="days" label="Works" :options="LIVES" />
      </p>
      <FilterChoice v-model="lane" label="Urgency" :options="LANES" />
      <p v-if="problem && !ofLabel" class="text-attention" role="alert">{{ problem.message }}</p>
      <p class="flex gap-3">
        <button class="button" type="submit" :disabled="label.trim() === '' || issue.isPending.value">Issue it</button>
        <button class="button quiet" type="button" @click="emit('close')">Cancel</button>
      </p>
    </form>
    <div v-else class="grid gap-3">
      <p>Copy it now: only its hash is kept, so it can never be shown again.</p>
      <CopyBlock :text="issued.key" what="the key" />
      <p>A first request:</p>
      <CopyBlock :text="example" what="the request" />
      <p><button class="button" @click="emit('close')">I have it</button></p>
    </div>
  </DialogBox>
</template>
