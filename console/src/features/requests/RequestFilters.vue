<script setup lang="ts">
/** The filters of the list, bound to the address. */
import { computed } from 'vue'
import { useRoutes, useTeams } from '@/api/resources'
import { instant } from '@/lib/format'
import { RANGE_WORDS, RANGES } from '@/lib/range'
import { useAddress } from '@/ui/address'
import FilterChoice from '@/ui/FilterChoice.vue'
import FilterText from '@/ui/FilterText.vue'
import { ENDS, FAILURES, isNarrowed, PLAIN } from './filters'

const address = useAddress()
const teams = useTeams()
const routes = useRoutes()
const same = (values: readonly string[]) => values.map((value) => ({ value, words: value }))
const names = (things: readonly { name: string }[] | undefined) => same((things ?? []).map((thing) => thing.name))
const [team, route, end, failure] = [
  address.member('team'),
  address.member('route'),
  address.member('end'),
  address.member('failure'),
]
const [offer, upstream, key, run, label] = ['offer', 'upstream', 'key', 'run', 'label'].map((name) =>
  address.member(name),
)
const ends = [{ value: 'failed', words: 'cut off or not answered' }, ...same(ENDS)]
const ranges = RANGES.map((value) => ({ value, words: RANGE_WORDS[value] }))
// A range by name takes the place of one that a link brought along.
const range = computed({
  get: () => address.read('range'),
  set: (value) => address.set({ range: value, from: '', to: '' }),
})
const own = computed(() => {
  const [from, to] = [address.read('from'), address.read('to')]
  if (address.read('range') || (!from && !to)) return ''
  const words = (text: string) => (text ? instant(new Date(text)) : '…')
  return `${words(from)} to ${words(to)}`
})

function clear() {
  address.set(Object.fromEntries(['range', 'from', 'to', ...PLAIN].map((name) => [name, ''])))
}
</script>

<template>
  <div role="search" aria-label="Filters" class="mb-2 flex flex-wrap items-baseline gap-x-5 gap-y-2">
    <FilterChoice v-model="range" label="Time" :options="ranges" :any="own || 'any'" />
    <FilterChoice v-model="team" label="Team" :options="names(teams.data.value)" any="any" />
    <FilterChoice v-model="route" label="Route" :options="names(routes.data.value)" any="any" />
    <FilterChoice v-model="end" label="End" :options="ends" any="any" />
    <FilterChoice v-model="failure" label="Failed with" :options="same(FAILURES)" any="anything" />
    <FilterText v-if="offer" v-model="offer" label="Offer" hint="upstream/model" />
    <FilterText v-if="upstream" v-model="upstream" label="Upstream" hint="name" />
    <FilterText v-if="key" v-model="key" label="Key" hint="id" />
    <FilterText v-if="run" v-model="run" label="Run" hint="id" />
    <FilterText v-if="label" v-model="label" label="Label" hint="name=value" />
    <button v-if="isNarrowed(address.read)" class="follow text-small" @click="clear">Clear all</button>
  </div>
</template>
