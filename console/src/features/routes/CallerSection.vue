<script setup lang="ts">
/** Who still asks for a route, and under which of its names: whom to tell before it retires. From `/routes/{name}/callers`. */
import { useCallers } from '@/api/catalogue'
import type { Schemas } from '@/api/client'
import { grouped } from '@/lib/format'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import ListNarrow from '@/ui/ListNarrow.vue'
import SortHead from '@/ui/SortHead.vue'
import { moveInList } from '@/ui/listKeys'
import { useList } from '@/ui/useList'
import TimeAgo from '@/ui/TimeAgo.vue'

const props = defineProps<{ route: Schemas['RouteLine'] }>()
const callers = useCallers(() => props.route.name, true)
const { lines, order, narrow, isLong } = useList(
  () => callers.data.value ?? [],
  {
    team: (one) => one.team,
    key: (one) => one.label ?? one.key,
    asked: (one) => one.asked_as,
    requests: (one) => one.requests,
    last: (one) => one.last_at,
  },
  (one) => `${one.team} ${one.label ?? ''} ${one.key} ${one.asked_as}`,
)
const requests = (key: string) => ({ path: paths.requests, query: { route: props.route.name, key, range: '30d' } })
</script>

<template>
  <h2>Who asks for it <span class="second">in the last 30 days</span></h2>
  <FourStates
    what="its callers"
    :query="callers"
    :is-empty="callers.data.value?.length === 0"
    @retry="callers.refetch()"
  >
    <template #empty>Nobody has asked for it.</template>
    <ListNarrow v-model="narrow" :shown="isLong" :count="lines.length" />
    <table @keydown="moveInList">
      <thead>
        <tr>
          <SortHead :order="order" column="team">team</SortHead>
          <SortHead :order="order" column="key">key</SortHead>
          <SortHead :order="order" column="asked">asks for</SortHead>
          <SortHead :order="order" column="requests" number>requests</SortHead>
          <SortHead :order="order" column="last">last</SortHead>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in lines" :key="one.key + one.asked_as">
          <th scope="row">
            <RouterLink :to="paths.team(one.team)">{{ one.team }}</RouterLink>
          </th>
          <td>{{ one.label ?? one.key }}</td>
          <td>
            {{ one.asked_as }}<span v-if="one.asked_as !== route.name" class="text-caution"> △ a former name</span>
          </td>
          <td class="num">
            <RouterLink :to="requests(one.key)">{{ grouped(one.requests) }}</RouterLink>
          </td>
          <td><TimeAgo :at="one.last_at" /></td>
        </tr>
      </tbody>
    </table>
  </FourStates>
</template>
