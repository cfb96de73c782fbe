<script setup lang="ts">
/** How fast are this team's routes, and what do they cost? From `/usage` of the last 24 hours. */
import { computed } from 'vue'
import { useUsage } from '@/api/resources'
import { grouped, share, typicalSlow } from '@/lib/format'
import { paths, requestsBehind } from '@/lib/paths'
import { spanOf } from '@/lib/range'
import FourStates from '@/ui/FourStates.vue'
import MoneyAmount from '@/ui/MoneyAmount.vue'

const props = defineProps<{ name: string }>()
const day = spanOf('24h', new Date())
const asked = computed(() => ({
  from: day.from.toISOString(),
  to: day.to.toISOString(),
  team: props.name,
  by: 'route',
}))
const usage = useUsage(asked)
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
      <table v-if="usage.data.value">
        <thead>
          <tr>
            <th scope="col">route</th>
            <th scope="col" class="num">requests</th>
            <th scope="col" class="num">not answered</th>
            <th scope="col" class="num">first token<br />p50, p95</th>
            <th scope="col" class="num">cost, {{ usage.data.value.currency }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in usage.data.value.lines" :key="line.name">
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
