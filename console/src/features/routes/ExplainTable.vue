<script setup lang="ts">
/** Every offer of a route, taken or left, in order, with the reason, its cost, its room and its wait. */
import type { Schemas } from '@/api/client'
import { duration, grouped } from '@/lib/format'
import { paths } from '@/lib/paths'
import MoneyAmount from '@/ui/MoneyAmount.vue'
import StateWord from '@/ui/StateWord.vue'

defineProps<{ explained: Schemas['Explained'] }>()
const upstream = (offer: string) => offer.split('/')[0] ?? offer
const room = (line: Schemas['ExplainLine']) =>
  line.streams == null ? grouped(line.streams_open) : `${line.streams_open} of ${grouped(line.streams)}`
const wait = (line: Schemas['ExplainLine']) =>
  line.waiting === 0 ? 'none waiting' : `${grouped(line.waiting)} wait, ${duration(line.room_ms)} at most`
</script>

<template>
  <table>
    <thead>
      <tr>
        <th scope="col">turn</th>
        <th scope="col">stage</th>
        <th scope="col">offer</th>
        <th scope="col">state</th>
        <th scope="col">why</th>
        <th scope="col" class="num">streams</th>
        <th scope="col">room</th>
        <th scope="col" class="num">first token<br />usually</th>
        <th scope="col" class="num">cost at most</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in explained.offers" :key="`${line.stage} ${line.offer}`">
        <td>
          <template v-if="line.turn">{{ line.turn }}</template><span v-else class="second">left</span>
        </td>
        <td>{{ line.stage }}, by {{ line.pick }}</td>
        <td>
          <RouterLink :to="paths.upstream(upstream(line.offer))">{{ line.offer }}</RouterLink>
        </td>
        <td><StateWord :word="line.state" :quiet="line.state === 'well'" /></td>
        <td>{{ line.reason }}</td>
        <td class="num">{{ room(line) }}</td>
        <td>{{ wait(line) }}</td>
        <td class="num">{{ line.first_token_ms == null ? '–' : duration(line.first_token_ms) }}</td>
        <td class="num"><MoneyAmount :amount="line.expected_cost" :places="4" :currency="explained.currency" /></td>
      </tr>
    </tbody>
  </table>
</template>
