<script setup lang="ts">
/** The quotas of a team, each with its unit. */
import { computed } from 'vue'
import type { Table } from '@/lib/edits'
import { numberOf, shown } from './fields'

const props = defineProps<{ problemAt: (...names: (string | number)[]) => string | undefined }>()
const thing = defineModel<Table>('thing', { required: true })
const quotas = computed(() => (thing.value.quotas as Table[] | undefined) ?? [])
const MEASURES = ['requests', 'input-tokens', 'output-tokens', 'tokens', 'cost', 'streams']
const windows = (quota: Table) => (quota.measure === 'streams' ? ['team', 'key'] : ['minute', 'hour', 'day', 'month'])

function write(quotas: Table[]) {
  if (quotas.length === 0) Reflect.deleteProperty(thing.value, 'quotas')
  else Object.assign(thing.value, { quotas })
}
const add = () => {
  write([...quotas.value, { measure: 'requests', per: 'minute', limit: 60 }])
}
const remove = (index: number) => {
  write(quotas.value.filter((_, at) => at !== index))
}
function setMeasure(quota: Table, measure: string) {
  quota.measure = measure
  if (!windows(quota).includes(String(quota.per))) quota.per = windows(quota)[0] ?? ''
  if (measure === 'streams') Reflect.deleteProperty(quota, 'at_limit')
}
function setAtLimit(quota: Table, at: string) {
  if (at === 'warn') quota.at_limit = 'warn'
  else Reflect.deleteProperty(quota, 'at_limit')
}
const text = (event: Event) => (event.target as HTMLInputElement | HTMLSelectElement).value
const problem = (index: number) =>
  props.problemAt('quotas', index, 'limit') ??
  props.problemAt('quotas', index, 'per') ??
  props.problemAt('quotas', index)
</script>

<template>
  <h2>Quotas</h2>
  <p v-if="quotas.length === 0" class="second py-2">None: nothing limits what this team uses.</p>
  <table v-else class="max-w-4xl">
    <thead>
      <tr>
        <th scope="col">of</th>
        <th scope="col">per</th>
        <th scope="col" class="num">limit</th>
        <th scope="col">at the limit</th>
        <th scope="col"><span class="sr-only">remove</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(quota, index) in quotas" :key="index">
        <td>
          <select
            class="filter"
            :aria-label="`What quota ${index + 1} counts`"
            :value="quota.measure"
            @change="setMeasure(quota, text($event))"
          >
            <option v-for="measure in MEASURES" :key="measure">{{ measure }}</option>
          </select>
        </td>
        <td>
          <select
            class="filter"
            :aria-label="`Window of quota ${index + 1}`"
            :value="quota.per"
            @change="quota.per = text($event)"
          >
            <option v-for="window in windows(quota)" :key="window">{{ window }}</option>
          </select>
        </td>
        <td class="num">
          <input
            class="field num w-32"
            inputmode="decimal"
            :aria-label="`Limit of quota ${index + 1}`"
            :aria-invalid="problem(index) !== undefined"
            :value="shown(quota.limit)"
            @input="quota.limit = numberOf(text($event))"
          />
          <p v-if="problem(index)" class="text-attention text-small">{{ problem(index) }}</p>
        </td>
        <td>
          <select
            v-if="quota.measure !== 'streams'"
            class="filter"
            :aria-label="`What happens at the limit of quota ${index + 1}`"
            :value="quota.at_limit ?? 'refuse'"
            @change="setAtLimit(quota, text($event))"
          >
            <option value="refuse">refuses</option>
            <option value="warn">warns</option>
          </select>
          <span v-else class="second">refuses</span>
        </td>
        <td>
          <button class="button quiet" :aria-label="`Remove quota ${index + 1}`" @click="remove(index)">Remove</button>
        </td>
      </tr>
    </tbody>
  </table>
  <p class="mt-1.5"><button class="button quiet" @click="add">Add a quota</button></p>
</template>
