<script setup lang="ts">
/** The offers of an upstream: what each can take, and what it costs from which day. Rates are only added. */
import { computed, ref } from 'vue'
import type { Table } from '@/lib/edits'
import { numberOf, put, shown } from './fields'

const props = defineProps<{
  currency: string
  known: Table
  problemAt: (...names: (string | number)[]) => string | undefined
}>()
const thing = defineModel<Table>('thing', { required: true })
const offers = computed(() => Object.entries((thing.value.offers as Record<string, Table> | undefined) ?? {}))
const model = ref('')
const ratesOf = (offer: Table) => (offer.rates as Table[] | undefined) ?? []
/** Rates that are in force or will be stay as they are; those of this draft can still be changed. */
const isKnown = (name: string, rate: Table) =>
  ratesOf((props.known.offers as Record<string, Table> | undefined)?.[name] ?? {}).some((one) => one.from === rate.from)
const NUMBERS = [
  { member: 'context_window', words: 'context window, tokens' },
  { member: 'output_cap', words: 'output cap, tokens' },
]
const AMOUNTS = ['input', 'input_cached', 'output']
const text = (event: Event) => (event.target as HTMLInputElement).value

function nextMonth() {
  const now = new Date()
  return new Date(Date.UTC(now.getUTCFullYear(), now.getUTCMonth() + 1, 1)).toISOString().slice(0, 10)
}
function addRate(offer: Table) {
  const last = ratesOf(offer).at(-1)
  offer.rates = [...ratesOf(offer), { ...(last ?? { input: '0', output: '0' }), from: nextMonth() }]
}
function dropRate(offer: Table, rate: Table) {
  offer.rates = ratesOf(offer).filter((one) => one !== rate)
}
function addOffer() {
  const name = model.value.trim()
  if (!name) return
  Object.assign(thing.value, { offers: { ...(thing.value.offers as Table), [name]: {} } })
  model.value = ''
}
function dropOffer(name: string) {
  Object.assign(thing.value, { offers: Object.fromEntries(offers.value.filter(([one]) => one !== name)) })
}
</script>

<template>
  <h2>
    Offers <span class="second">rates per million tokens, in {{ currency }}</span>
  </h2>
  <section v-for="[name, offer] in offers" :key="name" class="border-rule max-w-4xl border-b py-2" :aria-label="name">
    <p class="flex flex-wrap items-baseline gap-x-5 gap-y-1">
      <span class="font-semibold">{{ name }}</span>
      <label v-for="one in NUMBERS" :key="one.member" class="second text-small"
        >{{ one.words }}
        <input
          class="field num inline-block max-w-28"
          inputmode="numeric"
          :value="shown(offer[one.member])"
          :aria-invalid="problemAt('offers', name, one.member) !== undefined"
          @input="put(offer, one.member, numberOf(text($event)))"
        />
        <span v-if="problemAt('offers', name, one.member)" class="text-attention">{{
          problemAt('offers', name, one.member)
        }}</span>
      </label>
      <button class="second underline" :aria-label="`Remove the offer ${name}`" @click="dropOffer(name)">remove</button>
    </p>
    <table v-if="ratesOf(offer).length" class="mt-1">
      <thead>
        <tr>
          <th scope="col">from</th>
          <th scope="col" class="num">input</th>
          <th scope="col" class="num">cached</th>
          <th scope="col" class="num">output</th>
          <th scope="col"><span class="sr-only">remove</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(rate, index) in ratesOf(offer)" :key="index">
          <template v-if="isKnown(name, rate)">
            <td>{{ rate.from }}</td>
            <td v-for="amount in AMOUNTS" :key="amount" class="num">{{ shown(rate[amount]) || '–' }}</td>
            <td class="second">stays</td>
          </template>
          <template v-else>
            <td>
              <input
                class="field"
                :aria-label="`First day of a rate of ${name}`"
                :value="shown(rate.from)"
                @input="rate.from = text($event)"
              />
            </td>
            <td v-for="amount in AMOUNTS" :key="amount" class="num">
              <input
                class="field num max-w-24"
                inputmode="decimal"
                :aria-label="`${amount === 'input_cached' ? 'Cached input' : amount} of ${name} from then on`"
                :aria-invalid="problemAt('offers', name, 'rates', index, amount) !== undefined"
                :value="shown(rate[amount])"
                @input="put(rate, amount, text($event).trim())"
              />
            </td>
            <td><button class="button quiet" @click="dropRate(offer, rate)">Take it back</button></td>
          </template>
        </tr>
      </tbody>
    </table>
    <p class="mt-1">
      <button class="button quiet" :aria-label="`Add a rate of ${name}`" @click="addRate(offer)">Add a rate</button>
    </p>
  </section>
  <form class="mt-2 flex max-w-lg items-end gap-2.5" @submit.prevent="addOffer">
    <label class="grow"
      >A further model
      <input v-model="model" class="field" autocomplete="off" />
    </label>
    <button class="button quiet" type="submit" :disabled="model.trim() === ''">Add the offer</button>
  </form>
</template>
