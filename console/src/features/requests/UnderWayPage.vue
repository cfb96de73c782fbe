<script setup lang="ts">
/** What is happening now, and how far is each request? For whoever waits for one, or is on call. From `/requests/under-way`. */
import { computed, ref, watch } from 'vue'
import type { Schemas } from '@/api/client'
import { useRoutes, useTeams, useUnderWay, type UnderWayQuery } from '@/api/resources'
import { clock, instant } from '@/lib/format'
import { paths } from '@/lib/paths'
import { spanOfStrips, spanWords } from '@/lib/requests'
import { stepWords, stripSoFar, underWaySentence } from '@/lib/underWay'
import { useAddress } from '@/ui/address'
import FilterChoice from '@/ui/FilterChoice.vue'
import FilterText from '@/ui/FilterText.vue'
import FourStates from '@/ui/FourStates.vue'
import { moveInList } from '@/ui/listKeys'
import PageHead from '@/ui/PageHead.vue'
import StripSmall from '@/ui/StripSmall.vue'
import RequestTable from './RequestTable.vue'

/** Requests that have ended and are still shown. */
const ENDED_SHOWN = 12
const FILTERS = ['team', 'route', 'upstream'] as const

const address = useAddress()
const teams = useTeams()
const routes = useRoutes()
const names = (things: readonly { name: string }[] | undefined) =>
  (things ?? []).map(({ name }) => ({ value: name, words: name }))
const [team, route, upstream] = [address.member('team'), address.member('route'), address.member('upstream')]
const query = computed<UnderWayQuery>(() =>
  Object.fromEntries(FILTERS.map((name) => [name, address.read(name)]).filter(([, value]) => value)),
)
const isNarrowed = computed(() => Object.keys(query.value).length > 0)
const seen = useUnderWay(query)
const requests = computed(() => seen.data.value?.requests ?? [])
const ended = ref<Schemas['RequestLine'][]>([])
watch(query, () => (ended.value = []))
watch(seen.data, (now) => {
  if (now) ended.value = [...[...now.ended].reverse(), ...ended.value].slice(0, ENDED_SHOWN)
})
const span = computed(() => spanOfStrips(requests.value))
</script>

<template>
  <PageHead title="Under way">
    <RouterLink :to="paths.requests">What has ended</RouterLink>
  </PageHead>
  <div role="search" aria-label="Filters" class="mb-2 flex flex-wrap items-baseline gap-x-5 gap-y-2">
    <FilterChoice v-model="team" label="Team" :options="names(teams.data.value)" any="any" />
    <FilterChoice v-model="route" label="Route" :options="names(routes.data.value)" any="any" />
    <FilterText v-model="upstream" label="Upstream" hint="name" />
  </div>
  <FourStates what="what is under way" :query="seen" @retry="seen.refetch()">
    <template v-if="seen.data.value">
      <p class="text-lead mb-3 max-w-4xl" aria-live="off">
        {{ underWaySentence(requests, seen.data.value.count)
        }}{{ isNarrowed && seen.data.value.count === 0 ? ' Others are hidden by the filters above.' : '' }}
      </p>
      <table v-if="requests.length > 0" @keydown="moveInList">
        <thead>
          <tr>
            <th scope="col">came, UTC</th>
            <th scope="col">route, team</th>
            <th scope="col">{{ spanWords(span) }}</th>
            <th scope="col">how far it is</th>
            <th scope="col">offer</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="request in requests" :key="request.id">
            <td class="tabular-nums" :title="`${request.id}, ${instant(new Date(request.at))}`">
              {{ clock(new Date(request.at)) }}
            </td>
            <td>
              {{ request.route }}
              <span class="second">{{ request.team }}{{ request.lane === 'batch' ? ', batch' : '' }}</span>
            </td>
            <td>
              <StripSmall :times="stripSoFar(request)" :span-ms="span" :width="260" :words="stepWords(request)" />
            </td>
            <td class="whitespace-nowrap tabular-nums">{{ stepWords(request) }}</td>
            <td class="second">{{ request.offer ?? '–' }}</td>
          </tr>
        </tbody>
      </table>
      <template v-if="ended.length > 0">
        <h2>Just ended</h2>
        <RequestTable :requests="ended" :currency="seen.data.value.currency" />
      </template>
    </template>
  </FourStates>
</template>
