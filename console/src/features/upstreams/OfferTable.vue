<script setup lang="ts">
/** The offers of an upstream with their rates, and what they did in the last day. */
import type { Schemas } from '@/api/client'
import { dayName, grouped, typicalSlow } from '@/lib/format'
import { paths } from '@/lib/paths'
import ListNarrow from '@/ui/ListNarrow.vue'
import { moveInList } from '@/ui/listKeys'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'

const props = defineProps<{ upstream: Schemas['UpstreamLine']; usage: Schemas['Usage'] | undefined }>()
const offer = (model: string) => `${props.upstream.name}/${model}`
const figures = (model: string) => props.usage?.lines.find((line) => line.name === offer(model))
type Offer = Schemas['OfferLine']
/** What images of a size cost, where that differs. */
const sizes = (one: Offer) =>
  Object.entries(one.rate?.image_sizes ?? {})
    .map((pair) => pair.join(': '))
    .join(', ')
const { lines, order, narrow, isLong } = useList(
  () => props.upstream.offers,
  {
    model: (one) => one.model,
    window: (one) => one.context_window,
    cap: (one) => one.output_cap,
    input: (one) => (one.rate ? Number(one.rate.input) : null),
    output: (one) => (one.rate ? Number(one.rate.output) : null),
    requests: (one) => figures(one.model)?.requests ?? 0,
    wait: (one) => figures(one.model)?.first_token.typical_ms,
  },
  (one) => `${one.model} ${one.abilities?.join(' ') ?? ''}`,
)
const requests = (model: string) => ({ path: paths.requests, query: { offer: offer(model), range: '24h' } })
</script>

<template>
  <h2>
    Offers <span class="second">rates per million tokens{{ usage ? `, in ${usage.currency}` : '' }}</span>
  </h2>
  <ListNarrow v-model="narrow" :shown="isLong" :count="lines.length" />
  <table @keydown="moveInList">
    <thead>
      <tr>
        <SortHead :order="order" column="model">model</SortHead>
        <th scope="col">can</th>
        <SortHead :order="order" column="window" number>window</SortHead>
        <SortHead :order="order" column="cap" number>output cap</SortHead>
        <SortHead :order="order" column="input" number>input</SortHead>
        <th scope="col" class="num">cached</th>
        <SortHead :order="order" column="output" number>output</SortHead>
        <th scope="col" class="num">image</th>
        <th scope="col">in force since</th>
        <th scope="col" class="num">bytes a token<br />in, ± error</th>
        <SortHead :order="order" column="requests" number>requests<br />last 24 h</SortHead>
        <SortHead :order="order" column="wait" number>first token<br />p50, p95</SortHead>
      </tr>
    </thead>
    <tbody>
      <tr v-for="one in lines" :key="one.model">
        <th scope="row">{{ one.model }}</th>
        <td class="second">{{ one.abilities == null ? 'all of its dialect' : one.abilities.join(', ') }}</td>
        <td class="num">{{ one.context_window == null ? 'not reported' : grouped(one.context_window) }}</td>
        <td class="num">{{ one.output_cap == null ? 'not reported' : grouped(one.output_cap) }}</td>
        <template v-if="one.rate">
          <td class="num">{{ one.rate.input }}</td>
          <td class="num">{{ one.rate.input_cached ?? one.rate.input }}</td>
          <td class="num">{{ one.rate.output }}</td>
          <td class="num" :title="sizes(one)">{{ one.rate.image ?? 'none' }}</td>
          <td>{{ dayName(new Date(`${one.rate.from}T00:00:00Z`)) }} {{ one.rate.from.slice(0, 4) }}</td>
        </template>
        <td v-else colspan="5" class="second">unpriced: it has no rate today</td>
        <td class="num" :title="one.reports_usage ? '' : 'Its last answer did not report what it used'">
          <template v-if="one.input_counting"
            >{{ one.input_counting.bytes_a_token }} ±{{ one.input_counting.error_percent }}%</template
          >
          <span v-else class="second">{{ one.reports_usage ? 'not known yet' : 'reports no usage' }}</span>
        </td>
        <td class="num">
          <RouterLink :to="requests(one.model)">{{ grouped(figures(one.model)?.requests ?? 0) }}</RouterLink>
        </td>
        <td class="num">
          {{ typicalSlow(figures(one.model)?.first_token) }}
        </td>
      </tr>
    </tbody>
  </table>
</template>
