<script setup lang="ts">
/** Who may ask, and how much of it is used? For operators and leads. From `/teams`. */
import { computed } from 'vue'
import { useCanChange, useTeams } from '@/api/resources'
import { paths } from '@/lib/paths'
import { grouped } from '@/lib/format'
import { quotaAmount, quotaWords, streamLimits } from '@/lib/quota'
import FourStates from '@/ui/FourStates.vue'
import ListNarrow from '@/ui/ListNarrow.vue'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'
import { moveInList } from '@/ui/listKeys'
import PageHead from '@/ui/PageHead.vue'
import QuotaGauge from '@/ui/QuotaGauge.vue'

const teams = useTeams()
const canChange = useCanChange()
const {
  lines: listed,
  order,
  narrow,
  isLong,
} = useList(
  () => teams.data.value ?? [],
  { team: (team) => team.name, keys: (team) => team.keys, quotas: (team) => team.quotas.length },
  (team) => `${team.name} ${team.routes?.join(' ') ?? ''}`,
)
const lines = computed(() =>
  listed.value.flatMap((team) => {
    const quotas = team.quotas.map((quota) => ({ id: quota.id, quota, streams: undefined }))
    const streams = streamLimits(team).map((limit) => ({
      id: `${team.name} ${limit.words}`,
      quota: undefined,
      streams: limit,
    }))
    const limits = [...quotas, ...streams]
    const nothing = { id: team.name, quota: undefined, streams: undefined }
    return (limits.length > 0 ? limits : [nothing]).map((limit, index) => ({ ...limit, team, isFirst: index === 0 }))
  }),
)
</script>

<template>
  <PageHead title="Teams"
    ><span>solid is used, hatched is reserved, the tick is expected by the end</span>
    <RouterLink v-if="canChange" :to="paths.newThing('teams')">Add a team</RouterLink></PageHead
  >
  <FourStates what="the teams" :query="teams" :is-empty="teams.data.value?.length === 0" @retry="teams.refetch()">
    <template #empty
      >There is no team yet. <RouterLink v-if="canChange" :to="paths.newThing('teams')">Add a team</RouterLink>, or let
      the <RouterLink :to="paths.start">first run</RouterLink> make one.</template
    >
    <ListNarrow v-model="narrow" :shown="isLong" :count="listed.length" />
    <table @keydown="moveInList">
      <thead>
        <tr>
          <SortHead :order="order" column="team">team</SortHead>
          <th scope="col">routes</th>
          <SortHead :order="order" column="keys" number>keys</SortHead>
          <SortHead :order="order" column="quotas">quota</SortHead>
          <th scope="col" class="num">used</th>
          <th scope="col" class="num">of</th>
          <th scope="col"><span class="sr-only">gauge</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in lines" :key="line.id">
          <th scope="row">
            <RouterLink v-if="line.isFirst" :to="paths.team(line.team.name)">{{ line.team.name }}</RouterLink>
            <span v-else class="sr-only">{{ line.team.name }}</span>
          </th>
          <td class="second">{{ line.isFirst ? (line.team.routes?.join(', ') ?? 'all') : '' }}</td>
          <td class="num">{{ line.isFirst ? line.team.keys : '' }}</td>
          <template v-if="line.quota">
            <td>
              {{ line.quota.measure }} a {{ line.quota.window }}{{ line.quota.at_limit === 'warn' ? ', warns' : '' }}
            </td>
            <td class="num">{{ quotaAmount(line.quota.measure, line.quota.used) }}</td>
            <td class="num">{{ quotaAmount(line.quota.measure, line.quota.limit) }}</td>
            <td><QuotaGauge v-bind="line.quota" :words="quotaWords(line.quota)" /></td>
          </template>
          <template v-else-if="line.streams">
            <td>{{ line.streams.words }}</td>
            <td class="num">{{ line.streams.open === undefined ? '' : grouped(line.streams.open) }}</td>
            <td class="num">{{ grouped(line.streams.limit) }}</td>
            <td />
          </template>
          <td v-else colspan="4" class="second">no quota: unlimited</td>
        </tr>
      </tbody>
    </table>
  </FourStates>
</template>
