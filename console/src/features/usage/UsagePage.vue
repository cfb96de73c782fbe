<script setup lang="ts">
/** What did it cost, and why? For the team lead. By team, route, offer or key over any range, beside the time before. From `/usage`. */
import { computed, ref, watch } from 'vue'
import type { UsageQuery } from '@/api/resources'
import { useTeams, useUsage } from '@/api/resources'
import { change, dayName, grouped, instant, money, share } from '@/lib/format'
import { paths } from '@/lib/paths'
import { isRangeName, RANGE_WORDS, RANGES, spanOf, stepOf } from '@/lib/range'
import { useAddress } from '@/ui/address'
import FilterChoice from '@/ui/FilterChoice.vue'
import FilterText from '@/ui/FilterText.vue'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import { MEASURES } from './measures'
import UsageChart from './UsageChart.vue'
import UsageTable from './UsageTable.vue'
import UsageWhy from './UsageWhy.vue'
import UsageNarrowing from './UsageNarrowing.vue'

const NARROW = ['team', 'route', 'offer', 'upstream', 'key'] as const
const BY = ['team', 'route', 'offer', 'key', 'upstream', 'run', 'end'] as const
/** Of a label its name is said too. */
const LABEL = 'label:'

const address = useAddress()
const teams = useTeams()
const [range, by, shown] = [address.member('range', '7d'), address.member('by', 'team'), address.member('show', 'cost')]
const label = computed({
  get: () => (by.value.startsWith(LABEL) ? by.value.slice(LABEL.length) : ''),
  set: (name: string) => (by.value = name ? `${LABEL}${name}` : 'team'),
})
const isNaming = ref(false)
const group = computed({
  get: () => (by.value.startsWith(LABEL) || isNaming.value ? LABEL : by.value),
  set: (what: string) => {
    isNaming.value = what === LABEL
    if (what !== LABEL) by.value = what
  },
})
const isWhy = computed({
  get: () => address.read('why') === 'yes',
  set: (is: boolean) => {
    address.set({ why: is ? 'yes' : '' })
  },
})
const chosenAt = ref(new Date())
// A range that ends now ends when it was chosen, so that all figures of the page are of the same time.
watch(range, () => (chosenAt.value = new Date()))
const span = computed(() => {
  const [from, to] = [address.read('from'), address.read('to')]
  if (from && to && !address.read('range')) return { from: new Date(from), to: new Date(to) }
  return spanOf(isRangeName(range.value) ? range.value : '7d', chosenAt.value)
})
const base = computed<UsageQuery>(() => {
  const query: UsageQuery = { from: span.value.from.toISOString(), to: span.value.to.toISOString() }
  for (const name of NARROW) if (address.read(name)) query[name] = address.read(name)
  return query
})
const exported = computed(() => {
  const query = new URLSearchParams()
  for (const [name, value] of Object.entries(base.value)) if (value) query.set(name, value)
  return `/manage/v1/ledger/export?${query.toString()}`
})
const groups = useUsage(() => ({ ...base.value, by: by.value }))
const series = useUsage(() => ({ ...base.value, by: stepOf(span.value) }))
const measure = computed(() => MEASURES.find((one) => one.name === shown.value) ?? MEASURES[0])
const sentence = computed(() => {
  const usage = groups.data.value
  if (!usage) return ''
  const { cost, before, requests, unpriced, estimated } = usage.together
  const differs = change(cost, before.cost)
  const beside =
    differs === 'new'
      ? ', nothing in the previous period'
      : differs
        ? `, ${differs} compared with the previous period (${money(before.cost)})`
        : ''
  const left = unpriced > 0 ? ` ${grouped(unpriced)} without a price are left out of the cost.` : ''
  const about = estimated > 0 ? ` ${grouped(estimated)} are counted by estimate.` : ''
  const { history_from: history, before_to: end, left_out: more } = usage
  const begins = !history
    ? ''
    : history >= end
      ? ' There are no records of the previous period.'
      : ` Records begin on ${instant(new Date(history))}, within the previous period: it is not a whole one.`
  const cut = more > 0 ? ` ${grouped(more)} further lines, the cheapest, are left out.` : ''
  const { preset, all_input: input } = usage.together.tokens
  const added = preset > 0 ? ` Presets of routes added ${share(preset, input)} of the input tokens.` : ''
  return `${grouped(requests)} requests cost ${money(cost)} ${usage.currency}${beside}.${begins}${left}${about}${added}${cut}`
})
const times = computed(() => `${instant(span.value.from)} to ${instant(span.value.to)}`)
const narrowed = (name: string) => {
  const next = by.value === 'team' ? 'route' : by.value === 'route' ? 'offer' : by.value
  const range = address.read('range') ? { range: address.read('range') } : { from: base.value.from, to: base.value.to }
  const kept = Object.fromEntries(NARROW.map((one) => [one, address.read(one)]).filter(([, value]) => value))
  return { path: paths.usage, query: { ...kept, ...range, show: shown.value, by: next, [by.value]: name } }
}
const same = (values: readonly string[]) => values.map((value) => ({ value, words: value }))
</script>

<template>
  <PageHead title="Usage">
    <span :title="times">{{ dayName(span.from) }} to {{ dayName(new Date(span.to.getTime() - 1)) }}, UTC</span>
  </PageHead>
  <div role="search" aria-label="Filters" class="mb-2 flex flex-wrap items-baseline gap-x-5 gap-y-2">
    <FilterChoice
      v-model="range"
      label="Time"
      :options="RANGES.map((value) => ({ value, words: RANGE_WORDS[value] }))"
    />
    <FilterChoice v-model="group" label="By" :options="[...same(BY), { value: LABEL, words: 'a label' }]" />
    <FilterText v-if="group === LABEL" v-model="label" label="named" hint="feature" />
    <FilterChoice
      v-model="shown"
      label="Over time"
      :options="MEASURES.map((one) => ({ value: one.name, words: one.words }))"
    />
    <UsageNarrowing :names="NARROW" :teams="teams.data.value?.map((team) => team.name) ?? []" />
  </div>
  <FourStates
    what="the figures"
    :query="groups"
    :is-empty="groups.data.value?.lines.length === 0"
    @retry="groups.refetch()"
  >
    <template #empty>No requests in this range. Choose a longer one, or remove a filter.</template>
    <p class="text-lead mb-3">
      {{ sentence }}
      <button class="follow" :aria-expanded="isWhy" @click="isWhy = !isWhy">
        {{ isWhy ? 'Close the reasons' : 'Why?' }}
      </button>
      <a
        class="follow ml-3"
        :href="exported"
        download="ledger.csv"
        title="Every line of the ledger in this range, as CSV"
        >Export lines</a
      >
    </p>
    <UsageWhy v-if="isWhy" :query="base" />
    <FourStates what="the chart" :query="series" @retry="series.refetch()">
      <UsageChart v-if="series.data.value && measure" :usage="series.data.value" :measure="measure" />
    </FourStates>
    <UsageTable v-if="groups.data.value" :usage="groups.data.value" :narrow="narrowed" class="mt-3" />
  </FourStates>
</template>
