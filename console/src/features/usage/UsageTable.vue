<script setup lang="ts">
/** Figures by group, each a way to its requests; a name narrows the page to it. */
import { computed } from 'vue'
import type { RouteLocationRaw } from 'vue-router'
import type { Schemas } from '@/api/client'
import { change, counted, grouped, money, share, typicalSlow } from '@/lib/format'
import { requestsBehind } from '@/lib/paths'
import { moveInList } from '@/ui/listKeys'
import MoneyAmount from '@/ui/MoneyAmount.vue'

type Line = Schemas['UsageLine']

const props = defineProps<{ usage: Schemas['Usage']; narrow: (name: string) => RouteLocationRaw }>()
const lines = computed(() =>
  props.usage.lines.length > 1 ? [...props.usage.lines, props.usage.together] : props.usage.lines,
)
const isTotal = (line: Line) => line === props.usage.together
const name = (line: Line) => (line.label ? `${line.label} (${line.name})` : line.name || '(no offer tried)')
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
  <table @keydown="moveInList">
    <thead>
      <tr>
        <th scope="col">{{ usage.by }}</th>
        <th scope="col" class="num">cost, {{ usage.currency }}</th>
        <th scope="col" class="num">previous<br />period</th>
        <th scope="col" class="num">requests</th>
        <th scope="col" class="num">not answered</th>
        <th scope="col" class="num">cancelled</th>
        <th scope="col" class="num">first token<br />p50, p95</th>
        <th scope="col" class="num">tokens in<br />anew</th>
        <th scope="col" class="num"><br />cached</th>
        <th scope="col" class="num">tokens<br />out</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in lines" :key="line.name" :class="{ total: isTotal(line) }">
        <th scope="row">
          <template v-if="isTotal(line)">together</template>
          <RouterLink v-else-if="line.name" :to="narrow(line.name)">{{ name(line) }}</RouterLink>
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
