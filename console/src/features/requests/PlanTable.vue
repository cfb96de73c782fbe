<script setup lang="ts">
/** Why this offer: the plan as it was made, and what became of each offer in it. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { paths } from '@/lib/paths'
import MoneyAmount from '@/ui/MoneyAmount.vue'
import StateWord from '@/ui/StateWord.vue'

const props = defineProps<{ shown: Schemas['RequestShown'] }>()

/** What became of an offer: skipped, not reached, failed of something, or answered. */
function fate(line: Schemas['PlanLine']): string {
  if (!line.taken) return 'skipped'
  const tried = props.shown.attempts.find((attempt) => attempt.offer === line.offer)
  if (!tried) return 'not reached'
  if (tried.failure) return tried.failure
  if (tried.answered && props.shown.request.end !== 'cancelled') return 'answered'
  return props.shown.attempts.some((one) => one.answered && one !== tried) ? 'given up for another' : 'app went away'
}
const isFailure = (line: Schemas['PlanLine']) =>
  line.taken && props.shown.attempts.some((tried) => tried.offer === line.offer && tried.failure)
const lines = computed(() =>
  props.shown.plan.map((line) => ({ ...line, id: `${line.stage} ${line.offer}`, fate: fate(line) })),
)
const upstream = (offer: string) => offer.split('/')[0] ?? offer
</script>

<template>
  <h2>
    Why this offer <span class="second">the plan at revision {{ shown.request.revision }}, as it was made</span>
  </h2>
  <table>
    <thead>
      <tr>
        <th scope="col">stage</th>
        <th scope="col">offer</th>
        <th scope="col">outcome</th>
        <th scope="col">reason</th>
        <th scope="col" class="num">cost at most</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in lines" :key="line.id">
        <td>{{ line.stage }}, by {{ line.pick }}</td>
        <td>
          <RouterLink :to="paths.upstream(upstream(line.offer))">{{ line.offer }}</RouterLink>
        </td>
        <td><StateWord :word="line.fate" :shape="isFailure(line) ? 'failing' : undefined" /></td>
        <td>{{ line.reason }}</td>
        <td class="num"><MoneyAmount :amount="line.expected_cost" :places="4" :currency="shown.currency" /></td>
      </tr>
    </tbody>
  </table>
</template>
