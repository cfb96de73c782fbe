<script setup lang="ts">
/** Who is told of which events, and with which secret? From `/revisions/current`, `/catalogue/difference`. */
import { computed } from 'vue'
import { pointer, type Table } from '@/lib/edits'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import TextField from '@/ui/TextField.vue'
import { KINDS } from '@/lib/events'
import DraftPanel from './DraftPanel.vue'
import RemoveThing from './RemoveThing.vue'
import { shown, textOf } from './fields'
import { useDraft } from './useDraft'

const props = defineProps<{ name: string }>()
// A webhook keeps its name: what is delivered is kept under it.
const draft = useDraft('webhooks', props.name, () => undefined)
const { catalogue, thing, isMissing, problemAt } = draft
const address = textOf(thing, 'address')
const kinds = KINDS.filter((kind) => kind.value !== 'test')
const secret = (source: 'env' | 'file') =>
  computed({
    get: () => shown((thing.value?.secret as Table | undefined)?.[source]),
    set: (text: string) => {
      if (thing.value) thing.value.secret = { [source]: text }
    },
  })
const [variable, file] = [secret('env'), secret('file')]
const chosen = computed(() => (thing.value?.events as string[] | undefined) ?? kinds.map((kind) => kind.value))

function toggle(kind: string) {
  if (!thing.value) return
  const has = chosen.value.includes(kind)
  const now = kinds.map((one) => one.value).filter((one) => (one === kind ? !has : chosen.value.includes(one)))
  if (now.length === kinds.length) delete thing.value.events
  else thing.value.events = now
}
</script>

<template>
  <PageHead :title="`Edit ${name}`">
    <RouterLink :to="paths.events">All webhooks</RouterLink>
    <RemoveThing
      v-if="!isMissing"
      :what="`the webhook ${name}`"
      :thing="pointer('webhooks', name)"
      :after="paths.events"
    />
  </PageHead>
  <FourStates what="the catalogue" :query="catalogue" :is-empty="isMissing" @retry="catalogue.refetch()">
    <template #empty
      >There is no webhook {{ name }} in the catalogue.
      <RouterLink :to="paths.events">All webhooks</RouterLink></template
    >
    <div v-if="thing" class="grid max-w-4xl gap-x-11 gap-y-3 lg:grid-cols-2">
      <TextField
        v-model="address"
        label="Address"
        :problem="problemAt('address') ?? problemAt()"
        hint="Where messages are posted to."
      />
      <TextField
        v-if="file === ''"
        v-model="variable"
        label="Variable with its secret"
        :problem="problemAt('secret', 'env') ?? problemAt('secret')"
        hint="An environment variable of the service; its value signs the messages and is never shown."
      />
      <TextField
        v-else
        v-model="file"
        label="File with its secret"
        :problem="problemAt('secret', 'file') ?? problemAt('secret')"
        hint="In the folder of credentials."
      />
      <fieldset class="lg:col-span-2">
        <legend class="mb-1 font-medium">It is told of</legend>
        <p class="flex flex-wrap gap-x-5 gap-y-1">
          <label v-for="kind in kinds" :key="kind.value" class="flex items-baseline gap-1.5"
            ><input type="checkbox" :checked="chosen.includes(kind.value)" @change="toggle(kind.value)" />{{
              kind.words
            }}</label
          >
        </p>
        <p v-if="problemAt('events')" class="text-attention text-small">{{ problemAt('events') }}</p>
      </fieldset>
    </div>
    <DraftPanel :draft="draft" />
  </FourStates>
</template>
