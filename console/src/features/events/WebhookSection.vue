<script setup lang="ts">
/** Who is told of events: each webhook with what waits, its last delivery, a try, and its log. */
import { computed, ref } from 'vue'
import { useDeliveries, useTryWebhook, useWebhooks } from '@/api/events'
import { grouped } from '@/lib/format'
import { useCanChange } from '@/api/resources'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import { KINDS } from '@/lib/events'
import { outcome } from './words'

const SHAPES: Record<string, 'well' | 'degraded' | 'failing'> = {
  delivered: 'well',
  waiting: 'degraded',
  'given-up': 'failing',
}
const webhooks = useWebhooks()
const lines = computed(() => webhooks.data.value ?? [])
const opened = ref('')
const log = useDeliveries(opened)
const tried = useTryWebhook()
const canChange = useCanChange()
/** Every kind but tries, which are told to the one that is tried. */
const ALL = KINDS.length - 1
</script>

<template>
  <h2>
    Webhooks <RouterLink v-if="canChange" class="right" :to="paths.newThing('webhooks')">Add a webhook</RouterLink>
  </h2>
  <FourStates what="the webhooks" :query="webhooks" :is-empty="lines.length === 0" @retry="webhooks.refetch()">
    <template #empty>
      No webhook is configured: nobody is told.
      <RouterLink v-if="canChange" :to="paths.newThing('webhooks')">Add one</RouterLink>
    </template>
    <table>
      <thead>
        <tr>
          <th scope="col">webhook</th>
          <th scope="col">address</th>
          <th scope="col">events</th>
          <th scope="col" class="num">waiting</th>
          <th scope="col">last delivery</th>
          <th scope="col"><span class="sr-only">what can be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in lines" :key="line.name" class="align-top">
          <th scope="row">
            <RouterLink v-if="canChange" :to="paths.editWebhook(line.name)">{{ line.name }}</RouterLink>
            <template v-else>{{ line.name }}</template>
          </th>
          <td class="mono">{{ line.address }}</td>
          <td>{{ line.events.length === ALL ? 'everything' : line.events.join(', ') }}</td>
          <td class="num">{{ grouped(line.waiting) }}</td>
          <td>
            <span v-if="line.secret !== 'found'" class="text-attention block">{{ line.secret }}</span>
            <template v-if="line.last">
              <StateWord :word="line.last.state" :shape="SHAPES[line.last.state]" :quiet="!line.last.failed" />,
              {{ outcome(line.last)
              }}<span v-if="line.last.tried_at" class="second">, <TimeAgo :at="line.last.tried_at" /></span>
            </template>
            <span v-else class="second">none yet</span>
          </td>
          <td class="whitespace-nowrap">
            <button class="follow" :disabled="tried.isPending.value" @click="tried.mutate(line.name)">Try it</button>
            ·
            <button
              class="follow"
              :aria-expanded="opened === line.name"
              @click="opened = opened === line.name ? '' : line.name"
            >
              {{ opened === line.name ? 'Close the log' : 'Its log' }}
            </button>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="tried.data.value" role="status" class="pt-1.5">
      <StateWord :word="tried.data.value.state" :shape="SHAPES[tried.data.value.state]" />: delivery
      {{ tried.data.value.id }} to {{ tried.data.value.webhook }}, {{ outcome(tried.data.value) }}.
    </p>
    <p v-if="tried.error.value" role="alert" class="text-attention pt-1.5">{{ tried.error.value.message }}</p>
    <template v-if="opened">
      <h3 class="mt-3">Deliveries to {{ opened }}</h3>
      <FourStates what="the log" :query="log" :is-empty="log.data.value?.length === 0" @retry="log.refetch()">
        <template #empty>No deliveries yet.</template>
        <table>
          <thead>
            <tr>
              <th scope="col" class="num">delivery</th>
              <th scope="col">event</th>
              <th scope="col">state</th>
              <th scope="col" class="num">tries</th>
              <th scope="col">last try</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="delivery in log.data.value" :key="delivery.id">
              <td class="num">{{ delivery.id }}</td>
              <td>{{ delivery.event.subject }} {{ delivery.event.says }}</td>
              <td><StateWord :word="delivery.state" :shape="SHAPES[delivery.state]" :quiet="!delivery.failed" /></td>
              <td class="num">{{ delivery.attempts }}</td>
              <td>
                {{ outcome(delivery)
                }}<span v-if="delivery.tried_at" class="second">, <TimeAgo :at="delivery.tried_at" /></span>
                <span v-if="delivery.next_at && delivery.failed" class="second"
                  >, again <TimeAgo :at="delivery.next_at"
                /></span>
              </td>
            </tr>
          </tbody>
        </table>
      </FourStates>
    </template>
  </FourStates>
</template>
