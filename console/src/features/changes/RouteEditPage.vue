<script setup lang="ts">
/** What does this name lead to, what is it for, and until when? From `/revisions/current`, `/catalogue/difference`. */
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { pointer, type Table } from '@/lib/edits'
import { paths } from '@/lib/paths'
import FilterChoice from '@/ui/FilterChoice.vue'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import TextField from '@/ui/TextField.vue'
import DraftPanel from './DraftPanel.vue'
import PresetEditor from './PresetEditor.vue'
import PresetTrial from './PresetTrial.vue'
import RemoveThing from './RemoveThing.vue'
import StageEditor from './StageEditor.vue'
import ThingText from './ThingText.vue'
import { textOf } from './fields'
import { useDraft } from './useDraft'

const props = defineProps<{ name: string }>()
const router = useRouter()
const draft = useDraft('routes', props.name, (now) => router.replace(paths.editRoute(now)))
const { catalogue, thing, newName, isMissing, problemAt } = draft
const document = computed(
  () => catalogue.data.value?.document as { upstreams?: Record<string, Table>; routes?: Table } | undefined,
)
const offers = computed(() =>
  Object.entries(document.value?.upstreams ?? {}).flatMap(([upstream, one]) =>
    Object.keys((one.offers as Table | undefined) ?? {}).map((model) => `${upstream}/${model}`),
  ),
)
const others = computed(() => Object.keys(document.value?.routes ?? {}).filter((one) => one !== props.name))
const purpose = textOf(thing, 'purpose')
const owner = textOf(thing, 'owner')
const retires = textOf(thing, 'retires')
const successor = textOf(thing, 'successor')
</script>

<template>
  <PageHead :title="`Edit ${name}`">
    <RouterLink :to="paths.route(name)">The route</RouterLink>
    <RemoveThing v-if="!isMissing" :what="`the route ${name}`" :thing="pointer('routes', name)" :after="paths.routes" />
  </PageHead>
  <FourStates what="the catalogue" :query="catalogue" :is-empty="isMissing" @retry="catalogue.refetch()">
    <template #empty
      >There is no route {{ name }} in the catalogue. <RouterLink :to="paths.routes">All routes</RouterLink></template
    >
    <template v-if="thing">
      <StageEditor v-model:thing="thing" :offers="offers" :problem-at="problemAt" />
      <h2>About it</h2>
      <div class="mt-2 grid max-w-4xl gap-x-11 gap-y-3 lg:grid-cols-2">
        <TextField
          v-model="newName"
          label="Name"
          :problem="problemAt()"
          hint="What apps put in “model”. The former name goes on leading here."
        />
        <TextField
          v-model="purpose"
          label="What it is for"
          :problem="problemAt('purpose')"
          hint="At most 500 characters."
        />
        <TextField
          v-model="owner"
          label="Whom to ask"
          :problem="problemAt('owner')"
          hint="A team, a person, an address."
        />
        <TextField
          v-model="retires"
          label="Retires on"
          :problem="problemAt('retires')"
          hint="Such as 2027-03-31; from this day on, UTC, it takes no requests."
        />
        <FilterChoice
          v-model="successor"
          label="Use instead"
          any="no other"
          :options="others.map((one) => ({ value: one, words: one }))"
        />
      </div>
      <PresetEditor v-model:thing="thing" :problem-at="problemAt" />
      <PresetTrial :draft="draft" :name="name" :thing="thing" />
      <ThingText
        v-model:thing="thing"
        members="strict, origins, former names, and of stages deadlines, moves_on, shares, hedge"
      />
    </template>
    <DraftPanel :draft="draft" />
  </FourStates>
</template>
