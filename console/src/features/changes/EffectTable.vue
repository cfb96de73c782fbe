<script setup lang="ts">
/** What a draft would have done to the requests of the last week: a sentence, then the routes of which something changes. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { duration, grouped, money } from '@/lib/format'

const props = defineProps<{ effect: Schemas['EffectSeen'] }>()
const sample = computed(() => {
  const { planned, requests, moved_error: error } = props.effect
  return planned === requests ? '' : ` (from a sample of ${grouped(planned)}, ±${grouped(error)})`
})
const sentence = computed(() => {
  const { requests, moved, cost_before: before, cost_after: after, priced_on: on, lines } = props.effect
  if (requests === 0) return 'There were no requests in the last 7 days that it could be tried on.'
  if (lines.length === 0)
    return `Of ${many(requests)} of the last 7 days none would have gone elsewhere${sample.value}, at the same cost.`
  const priced = `together they cost ${money(before, 2)} and would have cost ${money(after, 2)}, at the rates of ${on}`
  return `Of ${many(requests)} of the last 7 days ${grouped(moved)} would have gone elsewhere${sample.value}; ${priced}.`
})
const many = (requests: number) => `${grouped(requests)} ${requests === 1 ? 'request' : 'requests'}`
const wait = (ms: number | null | undefined) => (ms == null ? '–' : duration(ms))
</script>

<template>
  <div class="mt-3" aria-label="Effect on the last week">
    <p class="mb-1.5">{{ sentence }}</p>
    <template v-if="effect.lines.length">
      <table>
        <thead>
          <tr>
            <th scope="col">route</th>
            <th scope="col">goes to</th>
            <th scope="col" class="num">requests<br />before</th>
            <th scope="col" class="num">after</th>
            <th scope="col" class="num">cost<br />before</th>
            <th scope="col" class="num">after</th>
            <th scope="col" class="num">first token<br />before</th>
            <th scope="col" class="num">after</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="line in effect.lines" :key="line.route + (line.offer ?? line.refused ?? '')">
            <th scope="row">{{ line.route }}</th>
            <td>
              <template v-if="line.offer">{{ line.offer }}</template>
              <span v-else class="text-attention">× refused: {{ line.refused }}</span>
            </td>
            <td class="num">{{ grouped(line.before) }}</td>
            <td class="num">{{ grouped(line.after) }}</td>
            <td class="num">{{ money(line.cost_before, 2) }}</td>
            <td class="num">{{ money(line.cost_after, 2) }}</td>
            <td class="num">{{ wait(line.first_token_before_ms) }}</td>
            <td class="num">{{ wait(line.first_token_after_ms) }}</td>
          </tr>
        </tbody>
      </table>
      <p class="second text-small mt-1">{{ effect.assumes }}</p>
    </template>
  </div>
</template>
