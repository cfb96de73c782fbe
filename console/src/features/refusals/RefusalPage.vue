<script setup lang="ts">
/** Who was refused before admission, and why? It is not in the ledger. For the one on call. From `/refusals`. */
import { computed } from 'vue'
import { useRefusals } from '@/api/resources'
import { clock, grouped } from '@/lib/format'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import TimeAgo from '@/ui/TimeAgo.vue'

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
    <table>
      <thead>
        <tr>
          <th scope="col">minute, UTC</th>
          <th scope="col" class="num">refused</th>
          <th scope="col">because</th>
          <th scope="col">asked for</th>
          <th scope="col">team</th>
          <th scope="col">key</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="count in counts" :key="count.id">
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
    <table>
      <thead>
        <tr>
          <th scope="col">when</th>
          <th scope="col">request</th>
          <th scope="col">because</th>
          <th scope="col">asked for</th>
          <th scope="col">team</th>
          <th scope="col">key</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in latest" :key="one.request">
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
