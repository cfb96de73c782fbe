<script setup lang="ts">
/** Which servers are there, and are they well? For the one on call. From `/upstreams` and `/usage` by upstream. */
import { computed, ref } from 'vue'
import { useUpstreams, useUsage } from '@/api/resources'
import { duration, grouped } from '@/lib/format'
import { paths } from '@/lib/paths'
import { spanOf } from '@/lib/range'
import { spanOfStrips, spanWords } from '@/lib/requests'
import FourStates from '@/ui/FourStates.vue'
import ListNarrow from '@/ui/ListNarrow.vue'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'
import { moveInList } from '@/ui/listKeys'
import PageHead from '@/ui/PageHead.vue'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import TypicalStrips from '@/ui/TypicalStrips.vue'
import UpstreamAddDialog from './UpstreamAddDialog.vue'

const upstreams = useUpstreams()
const isAdding = ref(false)
const day = spanOf('24h', new Date())
const usage = useUsage({ from: day.from.toISOString(), to: day.to.toISOString(), by: 'upstream' })
const figures = (name: string) => usage.data.value?.lines.find((line) => line.name === name)
const span = computed(() =>
  spanOfStrips((usage.data.value?.lines ?? []).map((line) => ({ whole_ms: line.whole.slow_ms ?? 0 }))),
)
const ORDER = ['failing', 'degraded', 'no traffic yet', 'well']
// What needs attention stands first.
const { lines, order, narrow, isLong } = useList(
  () =>
    [...(upstreams.data.value ?? [])].sort(
      (a, b) => ORDER.indexOf(a.state) - ORDER.indexOf(b.state) || a.name.localeCompare(b.name),
    ),
  {
    upstream: (one) => one.name,
    state: (one) => ORDER.indexOf(one.state),
    'first token': (one) => one.first_token_ms,
    streams: (one) => one.streams_open,
    failure: (one) => one.last_failure?.at,
  },
  (one) => `${one.name} ${one.dialect} ${one.hosting} ${one.place ?? ''} ${one.state}`,
)
const isMissing = (credential: string) => credential !== 'none' && credential !== 'found'
</script>

<template>
  <PageHead title="Upstreams">
    <span>as seen by this instance since it started</span>
    <button class="follow" @click="isAdding = true">Add an upstream</button>
  </PageHead>
  <UpstreamAddDialog v-if="isAdding" @close="isAdding = false" />
  <FourStates
    what="the upstreams"
    :query="upstreams"
    :is-empty="upstreams.data.value?.length === 0"
    @retry="upstreams.refetch()"
  >
    <template #empty
      >There is no upstream yet. <button class="follow" @click="isAdding = true">Add an upstream</button> by its
      address, or let the <RouterLink :to="paths.start">first run</RouterLink> lead you to an answer.</template
    >
    <ListNarrow v-model="narrow" :shown="isLong" :count="lines.length" />
    <table :aria-busy="usage.isPending.value" @keydown="moveInList">
      <thead>
        <tr>
          <SortHead :order="order" column="upstream">upstream</SortHead>
          <SortHead :order="order" column="state">state</SortHead>
          <th scope="col">since</th>
          <SortHead :order="order" column="first token" number>first token<br />recently</SortHead>
          <SortHead :order="order" column="streams" number>streams</SortHead>
          <th scope="col">last 24 h: first token, whole, {{ spanWords(span) }}</th>
          <SortHead :order="order" column="failure">last failure</SortHead>
        </tr>
      </thead>
      <tbody>
        <tr v-for="upstream in lines" :key="upstream.name">
          <th scope="row">
            <RouterLink class="whitespace-nowrap" :to="paths.upstream(upstream.name)">{{ upstream.name }}</RouterLink>
            <span class="second text-small block whitespace-nowrap">
              {{ upstream.dialect }}, {{ upstream.hosting }}{{ upstream.place ? `, ${upstream.place}` : '' }}
            </span>
          </th>
          <td><StateWord :word="upstream.state" /></td>
          <td class="second whitespace-nowrap"><TimeAgo v-if="upstream.since" :at="upstream.since" /></td>
          <td class="num">{{ upstream.first_token_ms == null ? '–' : duration(upstream.first_token_ms) }}</td>
          <td class="num">
            {{ upstream.streams_open }}{{ upstream.streams == null ? '' : ` of ${grouped(upstream.streams)}` }}
          </td>
          <td>
            <TypicalStrips
              v-if="figures(upstream.name)"
              :first-token="figures(upstream.name)?.first_token ?? {}"
              :whole="figures(upstream.name)?.whole ?? {}"
              :span-ms="span"
              :width="190"
            />
            <span v-else-if="usage.data.value" class="second">not asked</span>
          </td>
          <td>
            <span v-if="isMissing(upstream.credential)" class="text-attention">{{ upstream.credential }}</span>
            <template v-else-if="upstream.last_failure">
              {{ upstream.last_failure.kind }}, {{ upstream.last_failure.detail }},
              <span class="second whitespace-nowrap"><TimeAgo :at="upstream.last_failure.at" /></span>
            </template>
            <span v-else class="second">none</span>
          </td>
        </tr>
      </tbody>
    </table>
  </FourStates>
</template>
