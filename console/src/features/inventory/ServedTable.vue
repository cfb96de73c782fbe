<script setup lang="ts">
/** What one upstream serves, beside what is offered of it. */
import type { Schemas } from '@/api/client'
import { dataSize, digest } from '@/lib/format'
import { grouped } from '@/lib/format'
import { paths } from '@/lib/paths'
import { moveInList } from '@/ui/listKeys'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'

const props = defineProps<{ line: Schemas['InventoryLine']; isBusy: boolean }>()
const emit = defineEmits<{ offer: [model: string] }>()

const STATES: Record<string, { word: string; shape: 'well' | 'failing' | 'limit' | 'off' }> = {
  kept: { word: 'offered', shape: 'well' },
  gone: { word: 'gone', shape: 'failing' },
  'other weights': { word: 'other weights', shape: 'limit' },
  'not known': { word: 'offered, not listed', shape: 'off' },
  '': { word: 'not offered', shape: 'off' },
}
const state = (model: Schemas['ServedLine']) => STATES[model.promise] ?? { word: model.promise, shape: 'off' as const }
const about = (model: Schemas['ServedLine']) => Object.values(model.served?.about ?? {}).join(', ')
const loaded = (model: Schemas['ServedLine']) => {
  if (model.served?.loaded_bytes != null) return dataSize(model.served.loaded_bytes)
  return props.line.loaded_bytes != null ? 'no' : 'not reported'
}
const proven = (model: Schemas['ServedLine']) => model.proofs.filter((proof) => proof.standing !== 'unproven')
const { lines, order } = useList(
  () => props.line.models,
  {
    model: (model) => model.model,
    state: (model) => state(model).word,
    context: (model) => model.served?.context_window,
    loaded: (model) => model.served?.loaded_bytes,
    used: (model) => model.last_used,
  },
  (model) => model.model,
)
const requests = (model: string) => ({
  path: paths.requests,
  query: { offer: `${props.line.upstream}/${model}`, range: '7d' },
})
</script>

<template>
  <table class="table-fixed" @keydown="moveInList">
    <colgroup>
      <col class="w-[21%]" />
      <col class="w-[13%]" />
      <col class="w-[12%]" />
      <col class="w-[10%]" />
      <col class="w-[9%]" />
      <col class="w-[11%]" />
      <col class="w-[18%]" />
      <col class="w-[7%]" />
    </colgroup>
    <thead>
      <tr>
        <SortHead :order="order" column="model">model</SortHead>
        <SortHead :order="order" column="state">state</SortHead>
        <th scope="col">weights</th>
        <SortHead :order="order" column="context" number>context, tokens</SortHead>
        <SortHead :order="order" column="loaded" number>loaded</SortHead>
        <th scope="col">proven</th>
        <SortHead :order="order" column="used">last used</SortHead>
        <th scope="col"><span class="sr-only">change</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="model in lines" :key="model.model">
        <th scope="row">
          {{ model.model }} <span v-if="about(model)" class="second text-small">{{ about(model) }}</span>
        </th>
        <td>
          <StateWord :word="state(model).word" :shape="state(model).shape" :quiet="state(model).shape === 'well'" />
        </td>
        <td>
          <span v-if="model.served?.digest" class="mono" :title="model.served.digest">{{
            digest(model.served.digest)
          }}</span>
          <span v-else class="second">not reported</span>
        </td>
        <td class="num">{{ model.served?.context_window == null ? '–' : grouped(model.served.context_window) }}</td>
        <td class="num">{{ loaded(model) }}</td>
        <td>
          <RouterLink v-if="model.offered && proven(model).length === 0" class="second" :to="paths.check(line.upstream)"
            >unproven</RouterLink
          >
          <span v-for="(proof, place) in proven(model)" :key="proof.proof" :title="proof.why ?? ''">
            <template v-if="place > 0">, </template
            >{{ proof.standing === 'absent' ? `not ${proof.proof}` : proof.proof }}
          </span>
        </td>
        <td class="second">
          <RouterLink v-if="model.last_used" :to="requests(model.model)"
            ><TimeAgo :at="model.last_used" hour
          /></RouterLink>
          {{ model.last_team ? `by ${model.last_team}` : model.offered ? 'never' : '' }}
        </td>
        <td class="num">
          <button v-if="!model.offered" class="follow" :disabled="isBusy" @click="emit('offer', model.model)">
            Offer it
          </button>
        </td>
      </tr>
    </tbody>
  </table>
</template>
