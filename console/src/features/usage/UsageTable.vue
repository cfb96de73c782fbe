<script setup lang="ts">
/** Figures by group, each a way to its requests; a name narrows the page to it. */
import { computed } from 'vue'
import type { RouteLocationRaw } from 'vue-router'
import type { Schemas } from '@/api/client'
import { change, counted, grouped, money, share, typicalSlow } from '@/lib/format'
import { requestsBehind } from '@/lib/paths'
import ListNarrow from '@/ui/ListNarrow.vue'
import { moveInList } from '@/ui/listKeys'
import MoneyAmount from '@/ui/MoneyAmount.vue'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'

type Line = Schemas['UsageLine']

const props = defineProps<{ usage: Schemas['Usage']; narrow: (name: string) => RouteLocationRaw }>()
const name = (line: Line) => (line.label ? `${line.label} (${line.name})` : line.name || nothing.value)
const {
  lines: listed,
  order,
  narrow: word,
  isLong,
} = useList(
  () => props.usage.lines,
  {
    name,
    cost: (line) => Number(line.cost),
    requests: (line) => line.requests,
    'not answered': (line) => line.not_answered / Math.max(line.requests, 1),
    cancelled: (line) => line.cancelled / Math.max(line.requests, 1),
    'first token': (line) => line.first_token.typical_ms,
    'tokens in': (line) => anew(line),
    cached: (line) => line.tokens.input_cached,
    'tokens out': (line) => line.tokens.output,
  },
  (line) => name(line),
)
/** The sum stays that of all lines. */
const lines = computed(() => (props.usage.lines.length > 1 ? [...listed.value, props.usage.together] : listed.value))
/** What has no name, and what narrows nothing here but the list of requests. */
const nothing = computed(() =>
  props.usage.by === 'offer' ? '(no offer tried)' : `(no ${props.usage.by.replace('label:', '')})`,
)
const isOfRequests = computed(() => ['run', 'end'].includes(props.usage.by) || props.usage.by.startsWith('label:'))
const isTotal = (line: Line) => line === props.usage.together
const anew = (line: Line) => line.tokens.input + line.tokens.cache_written
/** The largest of all tokens, which gives them their unit. */
const most = computed(() =>
  Math.max(...lines.value.flatMap((line) => [anew(line), line.tokens.input_cached, line.tokens.output]), 0),
)
/** What the sums hold beside the requests that were answered. */
const remarks = computed(() => {
  const { failed_attempts: failed, checks, images } = props.usage.together
  return [
    failed.count > 0
      ? `Of the cost, ${money(failed.cost, 4)} ${props.usage.currency} went to ${grouped(failed.count)} ${failed.count === 1 ? 'attempt' : 'attempts'} that did not answer.`
      : '',
    images > 0 ? `${grouped(images)} ${images === 1 ? 'image' : 'images'} were made.` : '',
    checks > 0 ? `${grouped(checks)} calls of checks are in tokens and cost, not in requests.` : '',
  ]
    .filter(Boolean)
    .join(' ')
})
const behind = (line: Line, more: Record<string, string> = {}) => requestsBehind(line.requests_query, more)
</script>

<template>
  <ListNarrow v-model="word" :shown="isLong" :count="listed.length" />
  <table @keydown="moveInList">
    <thead>
      <tr>
        <SortHead :order="order" column="name">{{ usage.by.replace('label:', '') }}</SortHead>
        <SortHead :order="order" column="cost" number>cost, {{ usage.currency }}</SortHead>
        <th scope="col" class="num">previous<br />period</th>
        <SortHead :order="order" column="requests" number>requests</SortHead>
        <SortHead :order="order" column="not answered" number>not answered</SortHead>
        <SortHead :order="order" column="cancelled" number>cancelled</SortHead>
        <SortHead :order="order" column="first token" number>first token<br />p50, p95</SortHead>
        <SortHead :order="order" column="tokens in" number>tokens in<br />anew</SortHead>
        <SortHead :order="order" column="cached" number><br />cached</SortHead>
        <SortHead :order="order" column="tokens out" number>tokens<br />out</SortHead>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in lines" :key="line.name" :class="{ total: isTotal(line) }">
        <th scope="row">
          <template v-if="isTotal(line)">together</template>
          <RouterLink v-else-if="line.name" :to="isOfRequests ? behind(line) : narrow(line.name)">{{
            name(line)
          }}</RouterLink>
          <template v-else>{{ name(line) }}</template>
        </th>
        <td class="num">
          <RouterLink :to="behind(line)"><MoneyAmount :amount="line.cost" :currency="usage.currency" /></RouterLink>
        </td>
        <td class="num second">{{ change(line.cost, line.before.cost) }}</td>
        <td class="num">
          <RouterLink :to="behind(line)">{{ grouped(line.requests) }}</RouterLink>
        </td>
        <td class="num">
          <RouterLink v-if="line.not_answered > 0" :to="behind(line, { end: 'failed' })">{{
            share(line.not_answered, line.requests)
          }}</RouterLink>
          <template v-else>{{ share(0, line.requests) }}</template>
        </td>
        <td class="num">
          <RouterLink v-if="line.cancelled > 0" :to="behind(line, { end: 'cancelled' })">{{
            share(line.cancelled, line.requests)
          }}</RouterLink>
          <template v-else>{{ share(0, line.requests) }}</template>
        </td>
        <td class="num">{{ typicalSlow(line.first_token) }}</td>
        <td class="num">{{ counted(anew(line), most) }}</td>
        <td class="num">{{ counted(line.tokens.input_cached, most) }}</td>
        <td class="num">{{ counted(line.tokens.output, most) }}</td>
      </tr>
    </tbody>
  </table>
  <p v-if="remarks" class="second text-small mt-2">{{ remarks }}</p>
</template>
