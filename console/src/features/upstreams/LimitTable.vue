<script setup lang="ts">
/** How much may be asked of an upstream and its offers in a minute, what is left of it, and when requests begin to wait. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { duration, grouped } from '@/lib/format'

const props = defineProps<{ upstream: Schemas['UpstreamLine'] }>()

const lines = computed(() => [
  ...props.upstream.limits.map((limit) => ({ name: 'all of it', limit })),
  ...props.upstream.offers.flatMap((offer) => offer.limits.map((limit) => ({ name: offer.model, limit }))),
])
function usedUp(limit: Schemas['LimitLine']): string {
  if (limit.used_up_in_s == null) return 'not at this rate'
  return limit.used_up_in_s === 0 ? 'now' : `in ${duration(limit.used_up_in_s * 1000)}`
}
</script>

<template>
  <template v-if="lines.length > 0">
    <h2>Limits <span class="second">as this instance uses them</span></h2>
    <table>
      <thead>
        <tr>
          <th scope="col">of</th>
          <th scope="col">what</th>
          <th scope="col" class="num">limit</th>
          <th scope="col" class="num">used in the last minute</th>
          <th scope="col" class="num">left</th>
          <th scope="col">requests wait</th>
          <th scope="col">known from</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in lines" :key="`${line.name} ${line.limit.what} ${line.limit.source}`">
          <th scope="row">{{ line.name }}</th>
          <td>{{ line.limit.what }}</td>
          <td class="num">{{ grouped(line.limit.limit) }}</td>
          <td class="num">{{ grouped(line.limit.used) }}</td>
          <td class="num">{{ grouped(line.limit.left) }}</td>
          <td>{{ usedUp(line.limit) }}</td>
          <td class="second">
            {{ line.limit.source === 'told' ? 'the upstream' : 'the catalogue, per minute' }}
          </td>
        </tr>
      </tbody>
    </table>
  </template>
</template>
