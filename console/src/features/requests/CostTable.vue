<script setup lang="ts">
/** What a request cost, as a sum whose parts are shown exactly. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { dayName, exactPlaces, grouped, money } from '@/lib/format'

const props = defineProps<{ shown: Schemas['RequestShown'] }>()
const cost = computed(() => props.shown.cost)
const places = computed(() =>
  exactPlaces([...(cost.value?.lines ?? []).map((line) => line.amount), cost.value?.total ?? '0']),
)
const rate = computed(() =>
  cost.value?.rate_from ? `, rate of ${dayName(new Date(`${cost.value.rate_from}T00:00:00Z`))}` : '',
)
</script>

<template>
  <section>
    <h2>
      What it cost <span class="second">{{ shown.currency }}</span>
    </h2>
    <p v-if="!cost" class="second py-2">
      Unpriced: the offer had no rate on that day. Give it one in the catalogue, and later requests are priced.
    </p>
    <p v-else-if="cost.lines.length === 0" class="second py-2">No tokens were used, so it cost nothing.</p>
    <table v-else>
      <tbody>
        <tr v-for="line in cost.lines" :key="line.kind">
          <th scope="row">{{ line.kind }}</th>
          <td class="num">{{ grouped(line.count) }}</td>
          <td class="num second">× {{ line.rate }} {{ line.rate_for === 1 ? 'each' : 'per million' }}</td>
          <td class="num">{{ money(line.amount, places) }}</td>
        </tr>
        <tr class="total">
          <th scope="row" colspan="3">together{{ rate }}</th>
          <td class="num">{{ money(cost.total, places) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-for="one in shown.corrections" :key="one.reason + one.amount" class="text-small mt-2">
      Corrected afterwards: {{ one.amount.startsWith('-') ? one.amount : `+${one.amount}` }} {{ shown.currency }},
      {{ one.reason }}.
    </p>
    <p v-if="cost?.reserved" class="second text-small mt-2">
      Reserved for it at most {{ money(cost.reserved, 6) }}; what was not used was given back.
    </p>
    <p v-if="shown.failed_used" class="second text-small mt-2">
      Attempts that did not answer used {{ grouped(shown.failed_used.all_input) }} in,
      {{ grouped(shown.failed_used.output) }} out and cost
      {{ shown.failed_cost ? `${money(shown.failed_cost, 6)} ${shown.currency}` : 'an unknown amount' }}: in lines of
      their own, not in this sum.
    </p>
    <p v-if="shown.request.estimated" class="text-caution text-small mt-2">
      The counts are estimated: the upstream did not report them, or not to the end.
    </p>
  </section>
</template>
