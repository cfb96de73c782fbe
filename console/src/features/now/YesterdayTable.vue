<script setup lang="ts">
/** Yesterday by team, beside what the same weekdays before cost, with thirty days and the month's budget. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { grouped, money, monthName, share, typicalSlow } from '@/lib/format'
import { paths, requestsBehind } from '@/lib/paths'
import { quotaWords } from '@/lib/quota'
import DayColumns from '@/ui/DayColumns.vue'
import MoneyAmount from '@/ui/MoneyAmount.vue'
import QuotaGauge from '@/ui/QuotaGauge.vue'

type Team = Schemas['TeamYesterday']

const props = defineProps<{ now: Schemas['Now'] }>()
const lines = computed<Team[]>(() =>
  props.now.teams.length > 1 ? [...props.now.teams, props.now.together] : props.now.teams,
)
const month = computed(() => monthName(new Date(props.now.at)))
const isTotal = (team: Team) => team.name === 'together'
function expected(team: Team): string {
  const [low, high] = [money(team.expected?.low ?? '0'), money(team.expected?.high ?? '0')]
  if (!team.expected) return '–'
  return low === high ? low : `${low} to ${high}`
}
const usage = (team: Team) => ({
  path: paths.usage,
  query: { range: 'yesterday', by: 'route', ...(isTotal(team) ? {} : { team: team.name }) },
})

function days(team: Team): string {
  const [first, last] = [team.days[0], team.days.at(-1)]
  return `${team.name}, cost by day from ${first?.day ?? ''} (${money(first?.cost ?? '0')}) to ${last?.day ?? ''} (${money(last?.cost ?? '0')})`
}
</script>

<template>
  <p v-if="lines.length === 0" class="second py-2.5">There is no team yet, so there is no cost.</p>
  <table v-else>
    <thead>
      <tr>
        <th scope="col">team</th>
        <th scope="col" class="num">cost</th>
        <th scope="col" class="num">expected</th>
        <th scope="col" class="num">requests</th>
        <th scope="col" class="num">not answered</th>
        <th scope="col" class="num">first token<br />p50, p95</th>
        <th scope="col">30 days</th>
        <th scope="col">{{ month }}’s budget</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="team in lines" :key="team.name" :class="{ total: isTotal(team) }">
        <th scope="row">
          <template v-if="isTotal(team)">together</template>
          <RouterLink v-else :to="paths.team(team.name)">{{ team.name }}</RouterLink>
        </th>
        <td class="num">
          <RouterLink :to="usage(team)"><MoneyAmount :amount="team.cost" :currency="now.currency" /></RouterLink>
        </td>
        <td class="num second">{{ expected(team) }}</td>
        <td class="num">
          <RouterLink :to="requestsBehind(team.requests_query)">{{ grouped(team.requests) }}</RouterLink>
        </td>
        <td class="num">
          <RouterLink v-if="team.not_answered > 0" :to="requestsBehind(team.requests_query, { end: 'failed' })">
            {{ share(team.not_answered, team.requests) }}
          </RouterLink>
          <template v-else>{{ share(0, team.requests) }}</template>
        </td>
        <td class="num">{{ typicalSlow(team.first_token) }}</td>
        <td><DayColumns :amounts="team.days" :words="days(team)" /></td>
        <td>
          <QuotaGauge v-if="team.budget" v-bind="team.budget" :words="quotaWords(team.budget)" />
          <span v-else-if="!isTotal(team)" class="second text-small">no cost limit</span>
        </td>
      </tr>
    </tbody>
  </table>
</template>
