<script setup lang="ts">
/** The stages of a route in order, their offers, deadlines, and after which failures the next offer is tried. */
import { computed } from 'vue'
import type { Schemas } from '@/api/client'
import { duration, grouped } from '@/lib/format'
import { paths } from '@/lib/paths'

const props = defineProps<{ stages: readonly Schemas['StageLine'][]; usage: Schemas['Usage'] | undefined }>()
const lines = computed(() =>
  props.stages.flatMap((stage, index) =>
    stage.offers.map((one, place) => ({
      id: `${index} ${one.offer}`,
      stage,
      number: index + 1,
      one,
      isFirst: place === 0,
    })),
  ),
)
const LOADING_LAST = 'While a server loads the model others are asked; it is waited for if nothing else is left'
const loading = (stage: Schemas['StageLine']) =>
  stage.loading_ms == null ? '–' : stage.loading_ms === 0 ? 'no wait' : duration(stage.loading_ms)
const room = (stage: Schemas['StageLine']) => (stage.room_ms === 0 ? 'no wait' : duration(stage.room_ms))
const upstream = (offer: string) => offer.split('/')[0] ?? offer
const answered = (offer: string) => props.usage?.lines.find((line) => line.name === offer)?.requests ?? 0
</script>

<template>
  <h2>Stages, in order</h2>
  <table>
    <thead>
      <tr>
        <th scope="col">stage</th>
        <th scope="col">offer</th>
        <th scope="col" class="num">answered<br />last 24 h</th>
        <th scope="col" class="num">room<br />within</th>
        <th scope="col" class="num">a load<br />within</th>
        <th scope="col" class="num">first token<br />within</th>
        <th scope="col" class="num">reply<br />within</th>
        <th scope="col" class="num">next event<br />within</th>
        <th scope="col">the next offer is tried after</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="line in lines" :key="line.id">
        <td>
          {{ line.isFirst ? `${line.number}, by ${line.stage.pick}${line.stage.hedged ? ', hedged' : ''}` : '' }}
        </td>
        <td>
          <RouterLink class="whitespace-nowrap" :to="paths.upstream(upstream(line.one.offer))">{{
            line.one.offer
          }}</RouterLink>
          <span v-if="line.one.share != null" class="second ml-1.5"> {{ line.one.share }} parts</span>
        </td>
        <td class="num">{{ grouped(answered(line.one.offer)) }}</td>
        <td class="num">{{ line.isFirst ? room(line.stage) : '' }}</td>
        <td class="num" :title="line.stage.loading_ms == null ? LOADING_LAST : undefined">
          {{ line.isFirst ? loading(line.stage) : '' }}
        </td>
        <td class="num">{{ line.isFirst ? duration(line.stage.first_event_ms) : '' }}</td>
        <td class="num">{{ line.isFirst ? duration(line.stage.reply_ms) : '' }}</td>
        <td class="num">{{ line.isFirst ? duration(line.stage.between_events_ms) : '' }}</td>
        <td class="second text-small">{{ line.isFirst ? line.stage.moves_on.join(', ') : '' }}</td>
      </tr>
    </tbody>
  </table>
</template>
