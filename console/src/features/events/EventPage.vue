<script setup lang="ts">
/** What happened by itself, and who was told of it? For whoever is on call. From `/events`, `/webhooks`. */
import { computed } from 'vue'
import { useEvents } from '@/api/events'
import { paths } from '@/lib/paths'
import { useAddress } from '@/ui/address'
import FilterChoice from '@/ui/FilterChoice.vue'
import FourStates from '@/ui/FourStates.vue'
import { moveInList } from '@/ui/listKeys'
import PageHead from '@/ui/PageHead.vue'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import WebhookSection from './WebhookSection.vue'
import { KINDS } from '@/lib/events'
import { shapeOf } from './words'

const address = useAddress()
const kind = address.member('kind')
const query = computed(() => {
  const below = address.read('below')
  return {
    ...(address.read('kind') && { kind: address.read('kind') }),
    ...(/^\d+$/.test(below) && { below: Number(below) }),
  }
})
const page = useEvents(query)
const events = computed(() => page.data.value?.events ?? [])
/** Upstreams and teams have pages; the spool and Wendor itself have none. */
function pageOf(event: { kind: string; subject: string }): string | undefined {
  if (['health', 'slow', 'models'].includes(event.kind)) return paths.upstream(event.subject.split('/')[0] ?? '')
  return ['quota', 'expiry'].includes(event.kind) ? paths.team(event.subject) : undefined
}
</script>

<template>
  <PageHead title="Events" />
  <WebhookSection />
  <h2>What happened <span class="second">in the last 90 days</span></h2>
  <div role="search" aria-label="Filters" class="mb-2 flex flex-wrap items-baseline gap-x-5 gap-y-2">
    <FilterChoice v-model="kind" label="Of" :options="KINDS" any="every kind" />
  </div>
  <FourStates what="the events" :query="page" :is-empty="events.length === 0" @retry="page.refetch()">
    <template #empty>{{ address.read('kind') ? 'No matching events.' : 'No events yet.' }}</template>
    <table @keydown="moveInList">
      <thead>
        <tr>
          <th scope="col">when</th>
          <th scope="col">kind</th>
          <th scope="col">state</th>
          <th scope="col">what</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="event in events" :key="event.id" class="align-top">
          <td class="whitespace-nowrap"><TimeAgo :at="event.at" /></td>
          <td>{{ event.kind }}</td>
          <td><StateWord :word="event.state" :shape="shapeOf(event)" :quiet="event.state !== 'began'" /></td>
          <td>
            <RouterLink v-if="pageOf(event)" :to="pageOf(event) ?? ''">{{ event.subject }}</RouterLink>
            <template v-else>{{ event.subject }}</template>
            {{ event.says }}
            <span v-if="event.why" class="second block">{{ event.why }}</span>
          </td>
        </tr>
      </tbody>
    </table>
    <p class="mt-3 flex gap-5">
      <button v-if="address.read('below')" class="follow" @click="address.set({ below: '' })">Newest</button>
      <button v-if="page.data.value?.next" class="follow" @click="address.set({ below: String(page.data.value.next) })">
        Older
      </button>
    </p>
  </FourStates>
</template>
