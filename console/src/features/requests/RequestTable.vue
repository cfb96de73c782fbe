<script setup lang="ts">
/** Requests as lines with strips on one scale. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { clock, dayName, grouped, instant, smallPlaces } from '@/lib/format'
import { paths } from '@/lib/paths'
import { spanOfStrips, spanWords } from '@/lib/requests'
import { moveInList } from '@/ui/listKeys'
import MoneyAmount from '@/ui/MoneyAmount.vue'
import StateWord from '@/ui/StateWord.vue'
import StripSmall from '@/ui/StripSmall.vue'

type Line = Schemas['RequestLine']

const props = defineProps<{ requests: readonly Line[]; currency: string }>()
const span = computed(() => spanOfStrips(props.requests))
const today = new Date().toISOString().slice(0, 10)
const at = (line: Line) => new Date(line.at)
const when = (line: Line) => (line.at.startsWith(today) ? clock(at(line)) : `${dayName(at(line))}, ${clock(at(line))}`)
const marks = (line: Line) =>
  [line.run ? `run ${line.run}` : '', ...Object.entries(line.labels).map((pair) => pair.join('='))].filter(Boolean)
</script>

<template>
  <table @keydown="moveInList">
    <thead>
      <tr>
        <th scope="col">time, UTC</th>
        <th scope="col">route, team</th>
        <th scope="col">{{ spanWords(span) }}</th>
        <th scope="col">end</th>
        <th scope="col">offer</th>
        <th scope="col" class="num">tokens in</th>
        <th scope="col" class="num">out</th>
        <th scope="col" class="num">cost, {{ currency }}</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="request in requests" :key="request.id">
        <td class="whitespace-nowrap tabular-nums">
          <RouterLink :to="paths.request(request.id)" :title="`${request.id}, ${instant(at(request))}`">{{
            when(request)
          }}</RouterLink>
        </td>
        <td :title="marks(request).join(', ')">
          {{ request.route }} <span class="second">{{ request.team }}</span>
        </td>
        <td><StripSmall :times="request" :tries="request.tries" :span-ms="span" :width="260" /></td>
        <td>
          <span v-if="request.end === 'proper'" class="second">proper</span>
          <StateWord v-else :word="request.end" />
          <span v-if="request.failure && request.failure !== request.end" class="second text-small ml-1.5">
            {{ request.failure }}</span
          >
        </td>
        <td class="second">{{ request.offer ?? 'none' }}</td>
        <td class="num">{{ request.estimated ? '~' : '' }}{{ grouped(request.tokens.all_input) }}</td>
        <td class="num">{{ grouped(request.tokens.output) }}</td>
        <td class="num">
          <MoneyAmount :amount="request.cost" :places="smallPlaces(request.cost ?? '0')" :currency="currency" />
        </td>
      </tr>
    </tbody>
  </table>
</template>
