<script setup lang="ts">
/** How much does this upstream carry, what does it offer, at which rate? From `/revisions/current`, `/catalogue/difference`. */
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { pointer, type Table } from '@/lib/edits'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import TextField from '@/ui/TextField.vue'
import DraftPanel from './DraftPanel.vue'
import OfferEditor from './OfferEditor.vue'
import RemoveThing from './RemoveThing.vue'
import ThingText from './ThingText.vue'
import { textOf } from './fields'
import { useDraft } from './useDraft'

const props = defineProps<{ name: string }>()
const router = useRouter()
const draft = useDraft('upstreams', props.name, (now) => router.replace(paths.editUpstream(now)))
const { catalogue, thing, newName, isMissing, problemAt } = draft
const document = computed(
  () => catalogue.data.value?.document as { currency?: string; upstreams?: Record<string, Table> } | undefined,
)
const known = computed(() => document.value?.upstreams?.[props.name] ?? {})
const place = textOf(thing, 'place')
const NUMBERS = [
  { member: 'streams', label: 'Streams at once', hint: 'From 1; empty: no limit.' },
  { member: 'queue', label: 'Requests that may wait', hint: 'From 0; empty: 100.' },
  { member: 'requests_a_minute', label: 'Requests a minute', hint: 'From 1; empty: no limit.' },
  { member: 'tokens_a_minute', label: 'Tokens a minute', hint: 'From 1, input and output; empty: no limit.' },
].map((one) => ({ ...one, value: textOf(thing, one.member, true) }))
</script>

<template>
  <PageHead :title="`Edit ${name}`">
    <RouterLink :to="paths.upstream(name)">The upstream</RouterLink>
    <RemoveThing
      v-if="!isMissing"
      :what="`the upstream ${name}`"
      :thing="pointer('upstreams', name)"
      :after="paths.upstreams"
    />
  </PageHead>
  <FourStates what="the catalogue" :query="catalogue" :is-empty="isMissing" @retry="catalogue.refetch()">
    <template #empty
      >There is no upstream {{ name }} in the catalogue.
      <RouterLink :to="paths.upstreams">All upstreams</RouterLink></template
    >
    <template v-if="thing">
      <div class="grid max-w-4xl gap-x-11 gap-y-3 lg:grid-cols-2">
        <TextField
          v-model="newName"
          label="Name"
          :problem="problemAt()"
          hint="1 to 64 of a-z, 0-9, . _ -. Routes, rates and figures follow."
        />
        <TextField v-model="place" label="Place" :problem="problemAt('place')" hint="A label, such as on-site." />
        <TextField
          v-for="one in NUMBERS"
          :key="one.member"
          v-model="one.value.value"
          :label="one.label"
          :problem="problemAt(one.member)"
          :hint="one.hint"
        />
      </div>
      <OfferEditor v-model:thing="thing" :known="known" :currency="document?.currency ?? ''" :problem-at="problemAt" />
      <ThingText
        v-model:thing="thing"
        members="address, dialect, hosting, credential, auth, headers, certificate, and of offers abilities, marks, controls, weights"
      />
    </template>
    <DraftPanel :draft="draft" />
  </FourStates>
</template>
