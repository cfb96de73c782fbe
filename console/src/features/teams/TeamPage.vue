<script setup lang="ts">
/** What may this team use, how much of it is used, which keys does it have? For its lead. From `/teams`, `/keys`. */
import { computed } from 'vue'
import { useCanChange, useTeams } from '@/api/resources'
import { capital, grouped, instant } from '@/lib/format'
import { paths } from '@/lib/paths'
import { quotaAmount, quotaWords, streamLimits } from '@/lib/quota'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import QuotaGauge from '@/ui/QuotaGauge.vue'
import KeySection from './KeySection.vue'
import TeamFigures from './TeamFigures.vue'

const props = defineProps<{ name: string }>()
const teams = useTeams()
const canChange = useCanChange()
const team = computed(() => teams.data.value?.find((one) => one.name === props.name))
const links = computed(() => ({
  usage: { path: paths.usage, query: { team: props.name, range: 'month', by: 'route' } },
  requests: { path: paths.requests, query: { team: props.name } },
}))
</script>

<template>
  <PageHead :title="name">
    <RouterLink :to="links.usage">Cost this month</RouterLink>
    <RouterLink :to="links.requests">Its requests</RouterLink>
    <RouterLink v-if="team && canChange" :to="paths.editTeam(name)">Edit</RouterLink>
  </PageHead>
  <FourStates what="this team" :query="teams" :is-empty="!team" @retry="teams.refetch()">
    <template #empty
      >{{ name === 'operators' ? 'Checks by people who belong to no team are paid by operators;' : '' }} There is no
      team {{ name }} that you may see. <RouterLink :to="paths.teams">All teams</RouterLink></template
    >
    <template v-if="team">
      <p class="text-lead mb-1">
        {{ team.routes ? `May use ${team.routes.join(', ')}.` : 'May use every route.' }}
      </p>
      <h2>Quotas</h2>
      <p v-if="team.quotas.length === 0" class="second py-2">
        None: nothing limits what this team uses. Whoever may change the catalogue sets some under Edit.
      </p>
      <table v-else>
        <thead>
          <tr>
            <th scope="col">quota</th>
            <th scope="col" class="num">used</th>
            <th scope="col" class="num">reserved</th>
            <th scope="col" class="num">limit</th>
            <th scope="col" class="num">expected</th>
            <th scope="col"><span class="sr-only">gauge</span></th>
            <th scope="col">at the limit</th>
            <th scope="col">window ends</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="quota in team.quotas" :key="quota.id">
            <th scope="row">{{ quota.measure }} a {{ quota.window }}</th>
            <td class="num">{{ quotaAmount(quota.measure, quota.used) }}</td>
            <td class="num">{{ quotaAmount(quota.measure, quota.reserved) }}</td>
            <td class="num">{{ quotaAmount(quota.measure, quota.limit) }}</td>
            <td class="num second">{{ quota.expected ? quotaAmount(quota.measure, quota.expected) : '–' }}</td>
            <td><QuotaGauge v-bind="quota" :words="quotaWords(quota)" /></td>
            <td>{{ quota.at_limit === 'warn' ? 'warns' : 'refuses' }}</td>
            <td class="second">{{ instant(new Date(quota.resets_at)) }}</td>
          </tr>
        </tbody>
      </table>
      <p v-for="limit in streamLimits(team)" :key="limit.words" class="py-1">
        {{ capital(limit.words) }}: {{ limit.open === undefined ? '' : `${grouped(limit.open)} of `
        }}{{ grouped(limit.limit) }}{{ limit.open === undefined ? ' at most' : '' }}.
      </p>
      <TeamFigures :name="name" />
      <KeySection :team="team" />
    </template>
  </FourStates>
</template>
