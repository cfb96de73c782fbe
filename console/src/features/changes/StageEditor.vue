<script setup lang="ts">
/** The stages of a route: their order, by buttons or by dragging, their offers, and how one of them is picked. */
import { computed, nextTick, ref } from 'vue'
import type { Json, Table } from '@/lib/edits'

const props = defineProps<{
  offers: readonly string[]
  problemAt: (...names: (string | number)[]) => string | undefined
}>()
const thing = defineModel<Table>('thing', { required: true })
const stages = computed(() => (thing.value.stages as Table[] | undefined) ?? [])
const PICKS = ['room', 'share', 'speed', 'cost', 'together']
const list = ref<HTMLElement>()
const dragged = ref<number>()
const said = ref('')

const nameOf = (entry: Json) => (typeof entry === 'string' ? entry : String((entry as Table).offer))
const offersOf = (stage: Table) => (stage.offers as Json[]).map(nameOf)
const free = (stage: Table) => props.offers.filter((offer) => !offersOf(stage).includes(offer))
const text = (event: Event) => (event.target as HTMLSelectElement).value
const problem = (index: number) =>
  props.problemAt('stages', index, 'offers') ??
  props.problemAt('stages', index) ??
  offersOf(stages.value[index] ?? { offers: [] })
    .map((_, at) => props.problemAt('stages', index, 'offers', at))
    .find((message) => message)

function move(from: number, to: number) {
  if (to < 0 || to >= stages.value.length || from === to) return
  const moved = [...stages.value]
  moved.splice(to, 0, ...moved.splice(from, 1))
  Object.assign(thing.value, { stages: moved })
  said.value = `Stage ${from + 1} is stage ${to + 1} now.`
  // The focus stays with the stage that moved.
  void nextTick(() => list.value?.querySelectorAll<HTMLElement>('[data-stage]')[to]?.focus())
}
function keyed(event: KeyboardEvent, index: number) {
  if (!event.altKey || (event.key !== 'ArrowUp' && event.key !== 'ArrowDown')) return
  event.preventDefault()
  move(index, index + (event.key === 'ArrowUp' ? -1 : 1))
}
const remove = (index: number) => {
  Object.assign(thing.value, { stages: stages.value.filter((_, at) => at !== index) })
}
const add = () => {
  Object.assign(thing.value, { stages: [...stages.value, { offers: props.offers.slice(0, 1), pick: 'room' }] })
}
const addOffer = (stage: Table, event: Event) => {
  const offer = text(event)
  if (offer) stage.offers = [...(stage.offers as Json[]), offer]
  ;(event.target as HTMLSelectElement).value = ''
}
const dropOffer = (stage: Table, offer: string) => {
  stage.offers = (stage.offers as Json[]).filter((entry) => nameOf(entry) !== offer)
}
function drop(to: number) {
  if (dragged.value !== undefined) move(dragged.value, to)
  dragged.value = undefined
}
</script>

<template>
  <h2>Stages, in order <span class="second">Alt and an arrow key moves the stage that has the focus</span></h2>
  <ol ref="list" class="max-w-4xl">
    <li
      v-for="(stage, index) in stages"
      :key="index"
      data-stage
      tabindex="0"
      class="border-rule border-b py-2"
      :aria-label="`Stage ${index + 1}: ${offersOf(stage).join(', ')}`"
      draggable="true"
      @keydown="keyed($event, index)"
      @dragstart="dragged = index"
      @dragover.prevent
      @drop.prevent="drop(index)"
    >
      <p class="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <span class="font-semibold">{{ index + 1 }}</span>
        <span v-for="offer in offersOf(stage)" :key="offer" class="whitespace-nowrap">
          {{ offer }}
          <button
            class="second underline"
            :aria-label="`take out ${offer} of stage ${index + 1}`"
            @click="dropOffer(stage, offer)"
          >
            take out
          </button>
        </span>
        <select class="filter" :aria-label="`Add an offer to stage ${index + 1}`" @change="addOffer(stage, $event)">
          <option value="">add an offer</option>
          <option v-for="offer in free(stage)" :key="offer">{{ offer }}</option>
        </select>
      </p>
      <p v-if="problem(index)" class="text-attention text-small">{{ problem(index) }}</p>
      <p class="mt-1 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <label class="second text-small"
          >picked by
          <select class="filter" :value="stage.pick ?? 'room'" @change="stage.pick = text($event)">
            <option v-for="pick in PICKS" :key="pick">{{ pick }}</option>
          </select>
        </label>
        <button
          class="second underline"
          :disabled="index === 0"
          :aria-label="`Move stage ${index + 1} up`"
          @click="move(index, index - 1)"
        >
          up
        </button>
        <button
          class="second underline"
          :disabled="index === stages.length - 1"
          :aria-label="`Move stage ${index + 1} down`"
          @click="move(index, index + 1)"
        >
          down
        </button>
        <button class="second underline" :aria-label="`Remove stage ${index + 1}`" @click="remove(index)">
          remove
        </button>
      </p>
    </li>
  </ol>
  <p class="sr-only" role="status">{{ said }}</p>
  <p v-if="problemAt('stages')" class="text-attention">{{ problemAt('stages') }}</p>
  <p class="mt-2"><button class="button quiet" @click="add">Add a stage</button></p>
</template>
