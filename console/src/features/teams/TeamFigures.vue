<script setup lang="ts">
/** How fast are this team's routes, and what do they cost? From `/usage` of the last 24 hours. */
import { computed } from 'vue'
import { useUsage } from '@/api/resources'
import { grouped, share, typicalSlow } from '@/lib/format'
import { paths, requestsBehind } from '@/lib/paths'
import { spanOf } from '@/lib/range'
import FourStates from '@/ui/FourStates.vue'
import { moveInList } from '@/ui/listKeys'
import MoneyAmount from '@/ui/MoneyAmount.vue'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'

const props = defineProps<{ name: string }>()
const day = spanOf('24h', new Date())
const asked = computed(() => ({
  from: day.from.toISOString(),
  to: day.to.toISOString(),
  team: props.name,
  by: 'route',
}))
const usage = useUsage(asked)
const { lines, order } = useList(
  () => usage.data.value?.lines ?? [],
  {
    route: (line) => line.name,
    requests: (line) => line.requests,
    'not answered': (line) => line.not_answered / Math.max(line.requests, 1),
    wait: (line) => line.first_token.typical_ms,
    cost: (line) => Number(line.cost),
  },
  (line) => line.name,
)
</script>

<template>
  <section>
    <h2>Its routes in the last 24 hours</h2>
    <FourStates
      what="its figures"
      :query="usage"
      :is-empty="usage.data.value?.lines.length === 0"
      @retry="usage.refetch()"
    >
      <template #empty>No requests in this range.</template>
      <table v-if="usage.data.value" @keydown="moveInList">
        <thead>
          <tr>
            <SortHead :order="order" column="route">route</SortHead>
            <SortHead :order="order" column="requests" number>requests</SortHead>
            <SortHead :order="order" column="not answered" number>not answered</SortHead>
            <SortHead :order="order" column="wait" number>first token<br />p50, p95</SortHead>
            <SortHead :order="order" column="cost" number>cost, {{ usage.data.value.currency }}</SortHead>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in lines" :key="line.name">
            <th scope="row">
              <RouterLink :to="paths.route(line.name)">{{ line.name }}</RouterLink>
            </th>
            <td class="num">
              <RouterLink :to="requestsBehind(line.requests_query)">{{ grouped(line.requests) }}</RouterLink>
            </td>
            <td class="num">{{ share(line.not_answered, line.requests) }}</td>
            <td class="num">{{ typicalSlow(line.first_token) }}</td>
            <td class="num"><MoneyAmount :amount="line.cost" :places="2" /></td>
          </tr>
        </tbody>
      </table>
    </FourStates>
  </section>
</template>
