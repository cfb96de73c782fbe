<script setup lang="ts">
/** The latest requests as strips on one scale, asked again while someone looks. */
import { computed } from 'vue'
import { useRequests } from '@/api/resources'
import { clock, grouped, instant, smallPlaces } from '@/lib/format'
import { paths } from '@/lib/paths'
import { spanOfStrips, spanWords } from '@/lib/requests'
import FourStates from '@/ui/FourStates.vue'
import { moveInList } from '@/ui/listKeys'
import MoneyAmount from '@/ui/MoneyAmount.vue'
import StripSmall from '@/ui/StripSmall.vue'

const latest = useRequests({ limit: 8 }, true)
const requests = computed(() => latest.data.value?.requests ?? [])
const span = computed(() => spanOfStrips(requests.value))
const at = (text: string) => new Date(text)
</script>

<template>
  <h2>
    Latest requests <span v-if="requests.length > 0" class="second">{{ spanWords(span) }}</span>
    <RouterLink class="right" :to="{ path: paths.requests, query: { live: 'yes' } }">Watch them live</RouterLink>
  </h2>
  <FourStates what="the latest requests" :query="latest" :is-empty="requests.length === 0" @retry="latest.refetch()">
    <template #empty>
      No request has come yet. Issue a key on a <RouterLink :to="paths.teams">team’s page</RouterLink>; its first
      request comes with it, ready to copy.
    </template>
    <table @keydown="moveInList">
      <thead class="sr-only">
        <tr>
          <th scope="col">time</th>
          <th scope="col">route and team</th>
          <th scope="col">in time</th>
          <th scope="col">offer</th>
          <th scope="col">tokens</th>
          <th scope="col">cost</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="request in requests" :key="request.id">
          <td class="num">
            <RouterLink :to="paths.request(request.id)" :title="instant(at(request.at))">{{
              clock(at(request.at))
            }}</RouterLink>
          </td>
          <td>
            {{ request.route }} <span class="second">{{ request.team }}</span>
          </td>
          <td><StripSmall :times="request" :tries="request.tries" :span-ms="span" :width="330" /></td>
          <td class="second">{{ request.offer ?? 'none' }}</td>
          <td class="num">{{ grouped(request.tokens.all_input) }} in, {{ grouped(request.tokens.output) }} out</td>
          <td class="num"><MoneyAmount :amount="request.cost" :places="smallPlaces(request.cost ?? '0')" /></td>
        </tr>
      </tbody>
    </table>
  </FourStates>
</template>
