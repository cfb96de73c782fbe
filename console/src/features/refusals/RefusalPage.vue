<script setup lang="ts">
/** Who was refused before admission, and why? It is not in the ledger. For the one on call. From `/refusals`. */
import { computed } from 'vue'
import { useRefusals } from '@/api/resources'
import { clock, grouped } from '@/lib/format'
import FourStates from '@/ui/FourStates.vue'
import ListNarrow from '@/ui/ListNarrow.vue'
import PageHead from '@/ui/PageHead.vue'
import SortHead from '@/ui/SortHead.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import { useList } from '@/ui/useList'

const REASONS: Record<string, string> = {
  no_key: 'no key came with it',
  two_keys: 'two different keys came with it',
  not_a_key: 'what came is not a key',
  mistyped_key: 'the key is mistyped or cut',
  unknown_key: 'no such key was issued here',
  revoked_key: 'the key is revoked',
  expired_key: 'the key has expired',
  route_not_found: 'no such route for this key',
  over_quota: 'a quota had no room',
  body_too_large: 'the body was too large',
  no_spool: 'it could not have been recorded',
}

const refusals = useRefusals()
const words = (reason: string) => REASONS[reason] ?? reason.replaceAll('_', ' ')
const counts = computed(() =>
  (refusals.data.value?.counts ?? []).map((count) => ({ ...count, id: JSON.stringify(count) })),
)
const latest = computed(() => refusals.data.value?.latest ?? [])
const text = (one: {
  reason: string
  wanted?: string | null
  route?: string | null
  team?: string | null
  key?: string | null
}) => [words(one.reason), one.wanted, one.route, one.team, one.key].join(' ')
const minutes = useList(
  () => counts.value,
  {
    minute: (one) => one.minute,
    refused: (one) => one.count,
    reason: (one) => words(one.reason),
    wanted: (one) => one.wanted ?? one.route,
    team: (one) => one.team,
    key: (one) => one.key,
  },
  text,
)
const singles = useList(
  () => latest.value,
  {
    at: (one) => one.at,
    reason: (one) => words(one.reason),
    wanted: (one) => one.wanted ?? one.route,
    team: (one) => one.team,
    key: (one) => one.key,
  },
  text,
)
const [byMinute, ofMinute, single, ofSingle] = [minutes.lines, minutes.narrow, singles.lines, singles.narrow]
</script>

<template>
  <PageHead title="Refused before admission"><span>the last hour, of the instance that answers</span></PageHead>
  <FourStates
    what="what was refused"
    :query="refusals"
    :is-empty="counts.length === 0 && latest.length === 0"
    @retry="refusals.refetch()"
  >
    <template #empty>No refusals in the last hour.</template>
    <h2>By the minute</h2>
    <ListNarrow v-model="ofMinute" :shown="minutes.isLong.value" :count="byMinute.length" />
    <table>
      <thead>
        <tr>
          <SortHead :order="minutes.order" column="minute">minute, UTC</SortHead>
          <SortHead :order="minutes.order" column="refused" number>refused</SortHead>
          <SortHead :order="minutes.order" column="reason">because</SortHead>
          <SortHead :order="minutes.order" column="wanted">asked for</SortHead>
          <SortHead :order="minutes.order" column="team">team</SortHead>
          <SortHead :order="minutes.order" column="key">key</SortHead>
        </tr>
      </thead>
      <tbody>
        <tr v-for="count in byMinute" :key="count.id">
          <td class="tabular-nums">{{ clock(new Date(count.minute)).slice(0, 5) }}</td>
          <td class="num">{{ grouped(count.count) }}</td>
          <td>{{ words(count.reason) }}</td>
          <td>{{ count.wanted ?? count.route ?? '' }}</td>
          <td>{{ count.team ?? '' }}</td>
          <td class="mono">{{ count.key ?? '' }}</td>
        </tr>
      </tbody>
    </table>
    <h2>The latest</h2>
    <ListNarrow v-model="ofSingle" :shown="singles.isLong.value" :count="single.length" />
    <table>
      <thead>
        <tr>
          <SortHead :order="singles.order" column="at">when</SortHead>
          <th scope="col">request</th>
          <SortHead :order="singles.order" column="reason">because</SortHead>
          <SortHead :order="singles.order" column="wanted">asked for</SortHead>
          <SortHead :order="singles.order" column="team">team</SortHead>
          <SortHead :order="singles.order" column="key">key</SortHead>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in single" :key="one.request">
          <td><TimeAgo :at="one.at" /></td>
          <td class="mono">{{ one.request }}</td>
          <td>{{ words(one.reason) }}</td>
          <td>{{ one.wanted ?? one.route ?? '' }}</td>
          <td>{{ one.team ?? '' }}</td>
          <td class="mono">{{ one.key ?? '' }}</td>
        </tr>
      </tbody>
    </table>
  </FourStates>
</template>
