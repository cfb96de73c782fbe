<script setup lang="ts">
/** What the first answer took and cost, and where to go from there. */
import type { Answered } from '@/api/ask'
import { useRequest } from '@/api/resources'
import { duration, money, smallPlaces } from '@/lib/format'
import { paths } from '@/lib/paths'

const props = defineProps<{ answered: Answered; route: string }>()
const request = useRequest(() => props.answered.id)
</script>

<template>
  <p class="pt-3" role="status" data-first-answer>
    First token after {{ duration(answered.firstMs) }}, all of it after {{ duration(answered.wholeMs) }}.
    <template v-if="request.data.value">
      <template v-if="request.data.value.cost">
        It cost {{ money(request.data.value.cost.total, smallPlaces(request.data.value.cost.total)) }}
        {{ request.data.value.currency }}.
      </template>
      <template v-else>The offer has no rate yet, so it is unpriced; a catalogue file gives it one.</template>
      {{ ' ' }}<RouterLink :to="paths.request(answered.id)">Its request</RouterLink>
    </template>
  </p>
  <p class="pt-1">
    Next: <RouterLink :to="paths.route(route)">code for an app</RouterLink>, and a
    <RouterLink :to="paths.teams">quota for the team</RouterLink>.
  </p>
</template>
