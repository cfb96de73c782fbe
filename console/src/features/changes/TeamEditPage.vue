<script setup lang="ts">
/** What may this team use, and how much of it? For whoever decides that. From `/revisions/current`, `/catalogue/difference`. */
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { pointer, type Table } from '@/lib/edits'
import { paths } from '@/lib/paths'
import FilterChoice from '@/ui/FilterChoice.vue'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import TextField from '@/ui/TextField.vue'
import DraftPanel from './DraftPanel.vue'
import QuotaEditor from './QuotaEditor.vue'
import RemoveThing from './RemoveThing.vue'
import { textOf } from './fields'
import { useDraft } from './useDraft'

const props = defineProps<{ name: string }>()
const router = useRouter()
const draft = useDraft('teams', props.name, (now) => router.replace(paths.editTeam(now)))
const { catalogue, thing, newName, isMissing, problemAt } = draft
const routes = computed(() =>
  Object.keys((catalogue.data.value?.document as { routes?: Table } | undefined)?.routes ?? {}),
)
const contact = textOf(thing, 'contact')
const defaultRoute = textOf(thing, 'default_route')
const weight = textOf(thing, 'weight', true)
const chosen = computed(() => (thing.value?.routes as string[] | undefined) ?? undefined)
const ACCESS = [
  { value: 'all', words: 'every route there is and will be' },
  { value: 'some', words: 'these alone' },
]
const access = computed({
  get: () => (chosen.value === undefined ? 'all' : 'some'),
  set: (way) => {
    if (!thing.value) return
    if (way === 'all') delete thing.value.routes
    else thing.value.routes = [...routes.value]
  },
})

function toggle(route: string) {
  if (!thing.value || !chosen.value) return
  const has = chosen.value.includes(route)
  thing.value.routes = has ? chosen.value.filter((one) => one !== route) : [...chosen.value, route].sort()
}
</script>

<template>
  <PageHead :title="`Edit ${name}`">
    <RouterLink :to="paths.team(name)">The team</RouterLink>
    <RemoveThing v-if="!isMissing" :what="`the team ${name}`" :thing="pointer('teams', name)" :after="paths.teams" />
  </PageHead>
  <FourStates what="the catalogue" :query="catalogue" :is-empty="isMissing" @retry="catalogue.refetch()">
    <template #empty
      >There is no team {{ name }} in the catalogue. <RouterLink :to="paths.teams">All teams</RouterLink></template
    >
    <template v-if="thing">
      <div class="grid max-w-4xl gap-x-11 gap-y-3 lg:grid-cols-2">
        <TextField
          v-model="newName"
          label="Name"
          :problem="problemAt()"
          hint="1 to 64 of a-z, 0-9, . _ -. Keys and figures follow; the former name stays known."
        />
        <TextField
          v-model="contact"
          label="Whom to ask"
          :problem="problemAt('contact')"
          hint="A person or an address."
        />
        <TextField
          v-model="weight"
          label="Weight"
          :problem="problemAt('weight')"
          hint="How much of a full upstream’s room it gets beside teams of weight 1; from 1."
        />
        <FilterChoice
          v-model="defaultRoute"
          label="Route of requests that name none"
          any="none"
          :options="routes.map((one) => ({ value: one, words: one }))"
        />
      </div>
      <h2>Access</h2>
      <FilterChoice v-model="access" label="It may use" :options="ACCESS" />
      <ul v-if="chosen" class="mt-1.5 flex flex-wrap gap-x-5 gap-y-1">
        <li v-for="route in routes" :key="route">
          <label class="flex items-center gap-1.5">
            <input type="checkbox" :checked="chosen.includes(route)" @change="toggle(route)" />{{ route }}
          </label>
        </li>
      </ul>
      <QuotaEditor v-model:thing="thing" :problem-at="problemAt" />
    </template>
    <DraftPanel :draft="draft" />
  </FourStates>
</template>
