<script setup lang="ts">
/** Why a range cost more or less than the one before: volume, price and mix, and the offers behind them. From `/usage/why`. */
import { computed } from 'vue'
import type { UsageQuery } from '@/api/resources'
import { useUsageWhy } from '@/api/resources'
import { counted, money } from '@/lib/format'
import { requestsBehind } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import { moveInList } from '@/ui/listKeys'

const props = defineProps<{ query: UsageQuery }>()
const why = useUsageWhy(() => props.query)
const parts = computed(() => {
  const told = why.data.value
  return told
    ? [
        { what: 'the previous period', amount: told.cost_before, about: '' },
        { what: 'volume', amount: told.volume, about: 'more or fewer tokens, of the same mix at the same rates' },
        { what: 'price', amount: told.price, about: 'other rates' },
        { what: 'mix', amount: told.mix, about: 'other offers, or more of the dearer kinds of tokens' },
        { what: 'other', amount: told.other, about: 'images, corrections, and what has no rate' },
      ]
    : []
})
const isSeen = (amount: string) => !/^-?[0.,]*$/.test(money(amount))
const signed = (amount: string) => (isSeen(amount) && !amount.startsWith('-') ? `+${money(amount)}` : money(amount))
/** What comes to nothing in the places that are shown says nothing. */
const lines = computed(() => (why.data.value?.lines ?? []).filter((line) => isSeen(line.price) || isSeen(line.mix)))
const most = computed(() => Math.max(0, ...(why.data.value?.lines ?? []).map((line) => line.tokens)))
</script>

<template>
  <section class="mb-3" aria-label="Why">
    <FourStates what="the reasons" :query="why" @retry="why.refetch()">
      <template v-if="why.data.value">
        <p class="mb-2 max-w-4xl">{{ why.data.value.summary }}</p>
        <div class="grid gap-x-11 lg:grid-cols-2">
          <table>
            <tbody>
              <tr v-for="(part, index) in parts" :key="part.what">
                <th scope="row">{{ part.what }}</th>
                <td class="num">{{ index === 0 ? money(part.amount) : signed(part.amount) }}</td>
                <td class="second">{{ part.about }}</td>
              </tr>
              <tr class="total">
                <th scope="row">this range</th>
                <td class="num">{{ money(why.data.value.cost) }}</td>
                <td class="second">{{ why.data.value.currency }}</td>
              </tr>
            </tbody>
          </table>
          <table v-if="lines.length" @keydown="moveInList">
            <thead>
              <tr>
                <th scope="col">offer</th>
                <th scope="col" class="num">by price</th>
                <th scope="col" class="num">by mix</th>
                <th scope="col" class="num">tokens before</th>
                <th scope="col" class="num">now</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="line in lines" :key="line.offer">
                <th scope="row">
                  <RouterLink :to="requestsBehind(line.requests_query)">{{ line.offer }}</RouterLink>
                </th>
                <td class="num">{{ signed(line.price) }}</td>
                <td class="num">{{ signed(line.mix) }}</td>
                <td class="num">{{ counted(line.tokens_before, most) }}</td>
                <td class="num">{{ counted(line.tokens, most) }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </template>
    </FourStates>
  </section>
</template>
