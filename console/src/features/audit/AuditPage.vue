<script setup lang="ts">
/** What was done to this installation, by whom, from where, and has anybody touched that record? From `/audit`. */
import { computed } from 'vue'
import { useAudit, type AuditQuery } from '@/api/resources'
import { grouped, instant } from '@/lib/format'
import { isRangeName, RANGE_WORDS, RANGES, spanOf } from '@/lib/range'
import { useAddress } from '@/ui/address'
import FilterChoice from '@/ui/FilterChoice.vue'
import FilterText from '@/ui/FilterText.vue'
import FourStates from '@/ui/FourStates.vue'
import { moveInList } from '@/ui/listKeys'
import PageHead from '@/ui/PageHead.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import AuditVerdict from './AuditVerdict.vue'
import { changed, doneWords } from './words'

const NAMES = ['by', 'action', 'subject', 'range'] as const
const address = useAddress()
const [by, action, subject, range] = [
  address.member('by'),
  address.member('action'),
  address.member('subject'),
  address.member('range'),
]
const query = computed<AuditQuery>(() => {
  const [name, after] = [address.read('range'), address.read('after')]
  const span = isRangeName(name) ? spanOf(name, new Date()) : undefined
  return {
    ...(address.read('by') && { by: address.read('by') }),
    ...(address.read('action') && { action: address.read('action') }),
    ...(address.read('subject') && { subject: address.read('subject') }),
    ...(span && { from: span.from.toISOString(), until: span.to.toISOString() }),
    ...(/^\d+$/.test(after) && { below: Number(after) }),
  }
})
const audit = useAudit(query)
const lines = computed(() =>
  (audit.data.value?.entries ?? []).map((entry) => ({ ...entry, fields: changed(entry.before, entry.after) })),
)
const actions = computed(() => (audit.data.value?.actions ?? []).map((value) => ({ value, words: doneWords(value) })))
const ranges = RANGES.map((value) => ({ value, words: RANGE_WORDS[value] }))
const isNarrowed = computed(() => NAMES.some((name) => address.read(name) !== ''))
const oldest = computed(() => String(lines.value.at(-1)?.number ?? ''))

function clear() {
  address.set(Object.fromEntries(NAMES.map((name) => [name, ''])))
}
</script>

<template>
  <PageHead title="Audit"><AuditVerdict /></PageHead>
  <div role="search" aria-label="Filters" class="mb-2 flex flex-wrap items-baseline gap-x-5 gap-y-2">
    <FilterChoice v-model="range" label="Time" :options="ranges" any="any" />
    <FilterText v-model="by" label="By" hint="name" />
    <FilterChoice v-model="action" label="Who" :options="actions" any="did anything" />
    <FilterText v-model="subject" label="To" hint="key 3f9k2mq7" />
    <button v-if="isNarrowed" class="follow text-small" @click="clear">Clear all</button>
  </div>
  <FourStates what="the audit" :query="audit" :is-empty="lines.length === 0" @retry="audit.refetch()">
    <template #empty>No matching entries.</template>
    <table @keydown="moveInList">
      <thead>
        <tr>
          <th scope="col" class="num">entry</th>
          <th scope="col">when</th>
          <th scope="col">by</th>
          <th scope="col">from</th>
          <th scope="col">what</th>
          <th scope="col">to</th>
          <th scope="col">before → after</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="entry in lines" :key="entry.number" class="align-top">
          <th scope="row" class="num font-normal" :title="`hash ${entry.hash}`">{{ grouped(entry.number) }}</th>
          <td class="whitespace-nowrap"><TimeAgo :at="entry.at" /></td>
          <td class="whitespace-nowrap">
            <button class="follow" :title="`Only what ${entry.by} did`" @click="by = entry.by">{{ entry.by }}</button>
          </td>
          <td class="second whitespace-nowrap" :title="entry.through">
            {{ entry.address || entry.through }}
          </td>
          <td class="whitespace-nowrap">{{ doneWords(entry.action) }}</td>
          <td class="whitespace-nowrap">
            <button
              class="follow text-left"
              :title="`Only what was done to ${entry.subject}`"
              @click="subject = entry.subject"
            >
              {{ entry.subject }}
            </button>
          </td>
          <td class="max-w-130">
            <template v-for="(field, index) in entry.fields" :key="field.field"
              ><template v-if="index > 0">, </template><span class="second">{{ field.field }}</span>
              {{ field.words }}</template
            >
          </td>
        </tr>
      </tbody>
    </table>
    <p class="mt-3 flex gap-5">
      <span v-if="lines[0]" class="second">{{ instant(new Date(lines[0].at)) }} and before</span>
      <RouterLink v-if="audit.data.value?.has_more" :to="{ query: { ...$route.query, after: oldest } }"
        >Older ones</RouterLink
      >
    </p>
  </FourStates>
</template>
