<script setup lang="ts">
/** What does each name lead to, and how is it doing? For operators and leads. From `/routes` and `/usage` by route. */
import { computed } from 'vue'
import { useCanChange, useRoutes, useUsage } from '@/api/resources'
import { grouped, share } from '@/lib/format'
import { paths, requestsBehind } from '@/lib/paths'
import { spanOf } from '@/lib/range'
import FourStates from '@/ui/FourStates.vue'
import ListNarrow from '@/ui/ListNarrow.vue'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'
import { moveInList } from '@/ui/listKeys'
import PageHead from '@/ui/PageHead.vue'
import TypicalStrips from '@/ui/TypicalStrips.vue'
import { spanOfStrips, spanWords } from '@/lib/requests'

const routes = useRoutes()
const canChange = useCanChange()
const day = spanOf('24h', new Date())
const usage = useUsage({ from: day.from.toISOString(), to: day.to.toISOString(), by: 'route' })
const { lines, order, narrow, isLong } = useList(
  () =>
    (routes.data.value ?? []).map((route) => ({
      route,
      figures: usage.data.value?.lines.find((line) => line.name === route.name),
    })),
  {
    route: (line) => line.route.name,
    wait: (line) => line.figures?.first_token.typical_ms,
    requests: (line) => line.figures?.requests ?? 0,
    'not answered': (line) => (line.figures ? line.figures.not_answered / Math.max(line.figures.requests, 1) : null),
  },
  ({ route }) => `${route.name} ${route.stages.flatMap((stage) => stage.offers.map((one) => one.offer)).join(' ')}`,
)
const span = computed(() =>
  spanOfStrips((usage.data.value?.lines ?? []).map((line) => ({ whole_ms: line.whole.slow_ms ?? 0 }))),
)
</script>

<template>
  <PageHead title="Routes"
    ><span>strips and figures of the last 24 hours</span>
    <RouterLink v-if="canChange" :to="paths.newThing('routes')">Add a route</RouterLink></PageHead
  >
  <FourStates what="the routes" :query="routes" :is-empty="routes.data.value?.length === 0" @retry="routes.refetch()">
    <template #empty
      >There is no route yet. <RouterLink v-if="canChange" :to="paths.newThing('routes')">Add a route</RouterLink>, or
      let the <RouterLink :to="paths.start">first run</RouterLink> make one.</template
    >
    <ListNarrow v-model="narrow" :shown="isLong" :count="lines.length" />
    <table :aria-busy="usage.isPending.value" @keydown="moveInList">
      <thead>
        <tr>
          <SortHead :order="order" column="route">route</SortHead>
          <th scope="col">stages, in order</th>
          <SortHead :order="order" column="wait">first token and whole, {{ spanWords(span) }}</SortHead>
          <SortHead :order="order" column="requests" number>requests</SortHead>
          <SortHead :order="order" column="not answered" number>not answered</SortHead>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in lines" :key="line.route.name">
          <th scope="row" class="align-top">
            <RouterLink :to="paths.route(line.route.name)">{{ line.route.name }}</RouterLink>
          </th>
          <td class="py-1 align-top">
            <ol>
              <li
                v-for="(stage, index) in line.route.stages"
                :key="`${line.route.name} ${stage.offers[0]?.offer ?? index}`"
              >
                <span class="second">{{ index + 1 }}, by {{ stage.pick }}:</span>
                {{ stage.offers.map((one) => one.offer).join(', ') }}
              </li>
            </ol>
          </td>
          <td class="align-top">
            <TypicalStrips
              v-if="line.figures"
              :first-token="line.figures.first_token"
              :whole="line.figures.whole"
              :span-ms="span"
            />
            <span v-else-if="usage.data.value" class="second">not asked</span>
          </td>
          <td class="num align-top">
            <RouterLink v-if="line.figures" :to="requestsBehind(line.figures.requests_query)">{{
              grouped(line.figures.requests)
            }}</RouterLink>
            <template v-else-if="usage.data.value">0</template>
          </td>
          <td class="num align-top">
            {{ line.figures ? share(line.figures.not_answered, line.figures.requests) : '–' }}
          </td>
        </tr>
      </tbody>
    </table>
  </FourStates>
</template>
