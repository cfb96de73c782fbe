<script setup lang="ts">
/** Why an upstream or an offer of it rests, since when, when it is tried next, and how it went lately. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { duration, grouped } from '@/lib/format'
import { useClock } from '@/ui/clock'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'

const props = defineProps<{ upstream: Schemas['UpstreamLine'] }>()
const now = useClock()
/** Changes that are shown of each. */
const SHOWN = 3

const lines = computed(() => [
  { name: 'connections', health: props.upstream.connections, offer: undefined },
  ...props.upstream.offers.map((offer) => ({ name: offer.model, health: offer.health, offer })),
])
const changes = computed(() =>
  lines.value
    .flatMap((line) => line.health.changes.slice(0, SHOWN).map((change) => ({ ...change, name: line.name })))
    .sort((a, b) => b.at.localeCompare(a.at))
    .slice(0, 2 * SHOWN),
)
function next(health: Schemas['HealthLine']): string {
  const at = health.next_trial ?? health.left_alone_until
  if (!at) return 'as requests come'
  const left = Date.parse(at) - now.value
  return left > 0 ? `in ${duration(left)}` : 'now'
}
</script>

<template>
  <h2>Health <span class="second">since this instance started</span></h2>
  <table>
    <thead>
      <tr>
        <th scope="col">of</th>
        <th scope="col">state</th>
        <th scope="col">since</th>
        <th scope="col">asked next</th>
        <th scope="col">last failure</th>
        <th scope="col" class="num">changes</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in lines" :key="line.name">
        <th scope="row">{{ line.name }}</th>
        <td><StateWord :word="line.health.state" :quiet="line.health.state === 'well'" /></td>
        <td><TimeAgo v-if="line.health.since" :at="line.health.since" /><span v-else class="second">–</span></td>
        <td>
          {{ next(line.health) }}
          <span v-if="line.health.left_alone_until" class="second">as it asked for itself</span>
          <span v-if="line.offer?.loading_since">
            its server loads the model, since <TimeAgo :at="line.offer.loading_since" />
          </span>
          <span v-else-if="line.offer?.cold_start_ms" class="second">
            loaded {{ line.offer.cold_starts === 1 ? 'once' : `${grouped(line.offer.cold_starts)} times` }}, the last in
            {{ duration(line.offer.cold_start_ms) }}
          </span>
        </td>
        <td>
          <template v-if="line.health.last_failure">
            {{ line.health.last_failure.kind }}, {{ line.health.last_failure.detail }},
            <span class="second whitespace-nowrap"><TimeAgo :at="line.health.last_failure.at" /></span>
          </template>
          <span v-else class="second">none</span>
        </td>
        <td class="num">{{ line.health.changes_counted }}</td>
      </tr>
    </tbody>
  </table>
  <ul v-if="changes.length > 0" class="mt-2">
    <li v-for="change in changes" :key="`${change.at} ${change.name}`">
      <StateWord :word="change.state" quiet />
      <span class="ml-1.5">{{ change.name }}: {{ change.why }},</span>
      <span class="second ml-1 whitespace-nowrap"><TimeAgo :at="change.at" /></span>
    </li>
  </ul>
</template>
