<script setup lang="ts">
/** What would become of a request to this route, as things are now? For the one who asks why it goes where it goes. Nothing is sent. */
import { computed, ref, watch } from 'vue'
import { useExplain } from '@/api/connecting'
import { useRoutes } from '@/api/resources'
import { grouped } from '@/lib/format'
import { paths } from '@/lib/paths'
import FilterChoice from '@/ui/FilterChoice.vue'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import ExplainTable from './ExplainTable.vue'

const props = defineProps<{ name: string }>()
const routes = useRoutes()
const route = computed(() => routes.data.value?.find((one) => one.name === props.name))
const teams = computed(() => (route.value?.teams ?? []).map((team) => ({ value: team, words: team })))
const explain = useExplain(() => props.name)
const team = ref('')
const body = ref('')
const unreadable = ref<string>()

/** The body that was written, or none. */
function request(): Record<string, never> | null {
  return body.value.trim() === '' ? null : (JSON.parse(body.value) as Record<string, never>)
}

function ask() {
  if (team.value === '') return
  try {
    unreadable.value = undefined
    explain.mutate({ team: team.value, request: request() })
  } catch (error) {
    unreadable.value = `This is not JSON: ${error instanceof Error ? error.message : 'it cannot be read'}`
  }
}
watch(
  teams,
  (known) => {
    if (team.value === '' && known[0]) {
      team.value = known[0].value
      ask()
    }
  },
  { immediate: true },
)
const problem = computed(() => unreadable.value ?? explain.error.value?.message)
</script>

<template>
  <PageHead :title="`A request to ${name}`"><RouterLink :to="paths.route(name)">The route</RouterLink></PageHead>
  <FourStates what="this route" :query="routes" :is-empty="!route || teams.length === 0" @retry="routes.refetch()">
    <template #empty
      >There is no route {{ name }} that a team of yours may use.
      <RouterLink :to="paths.routes">All routes</RouterLink></template
    >
    <p v-if="explain.data.value" class="text-lead mb-3 max-w-4xl">
      {{ explain.data.value.summary }}
      <span class="second"
        >Nothing was sent; the request has about {{ grouped(explain.data.value.input_tokens) }} input tokens.</span
      >
    </p>
    <form class="mb-3 grid max-w-4xl gap-3" @submit.prevent="ask">
      <FilterChoice v-model="team" label="Who would ask" :options="teams" @update:model-value="ask" />
      <div>
        <label for="explain-body" class="mb-1 block font-medium">Its body, as an app would send it</label>
        <textarea
          id="explain-body"
          v-model="body"
          class="field mono"
          rows="5"
          spellcheck="false"
          placeholder='{"messages": [{"role": "user", "content": "When is the last ferry?"}]}'
          aria-describedby="explain-hint"
          :aria-invalid="problem !== undefined"
        />
        <p id="explain-hint" class="text-small mt-1" :class="problem ? 'text-attention' : 'second'">
          {{ problem ?? 'A short question when it is empty. The route stands in for its model.' }}
        </p>
      </div>
      <p><button class="button" type="submit" :disabled="explain.isPending.value">Explain</button></p>
    </form>
    <ExplainTable v-if="explain.data.value" :explained="explain.data.value" />
  </FourStates>
</template>
