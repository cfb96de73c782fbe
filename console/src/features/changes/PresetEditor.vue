<script setup lang="ts">
/** What a route adds to requests: instructions, variables, example turns, parameters, and which of them requests cannot change. */
import { computed } from 'vue'
import type { Table } from '@/lib/edits'
import TextField from '@/ui/TextField.vue'
import TextLines from '@/ui/TextLines.vue'
import PresetExamples from './PresetExamples.vue'
import PresetVariables from './PresetVariables.vue'
import { usePreset } from './usePreset'

const props = defineProps<{ problemAt: (...names: (string | number)[]) => string | undefined }>()
const thing = defineModel<Table>('thing', { required: true })
const preset = usePreset(thing)
const problem = (...names: (string | number)[]) => props.problemAt('preset', ...names)

const instructions = preset.text('instructions')
const stop = preset.lines('stop')
const NUMBERS = [
  { part: 'temperature', label: 'Temperature', hint: '0 to 2.' },
  { part: 'top_p', label: 'Top p', hint: '0 to 1.' },
  { part: 'seed', label: 'Seed', hint: 'A whole number; for answers that can be repeated.' },
  { part: 'output_limit', label: 'Limit on output', hint: 'Tokens of one answer.' },
  { part: 'presence_penalty', label: 'Presence penalty', hint: '-2 to 2.' },
  { part: 'frequency_penalty', label: 'Frequency penalty', hint: '-2 to 2.' },
].map((number) => ({ ...number, value: preset.text(number.part, true) }))
const PARTS = ['instructions', 'examples', ...NUMBERS.map((number) => number.part), 'stop']
const parts = computed(() => PARTS.filter((part) => preset.preset.value[part] !== undefined))
const fixedProblem = computed(
  () => problem('fixed') ?? preset.fixed.value.map((_, at) => problem('fixed', at)).find(Boolean),
)
</script>

<template>
  <h2>What it adds to requests</h2>
  <div class="mt-2 grid max-w-4xl gap-y-3">
    <TextLines
      v-model="instructions"
      label="Standing instructions"
      :rows="4"
      :problem="problem('instructions') ?? problem()"
      :hint="'A variable stands in them as {{name}}. A request that has its own keeps those, unless these are fixed.'"
    />
    <PresetVariables :preset="preset" :problem-at="problem" />
    <PresetExamples :preset="preset" :problem-at="problem" />
    <div class="grid gap-x-11 gap-y-3 sm:grid-cols-2 lg:grid-cols-3">
      <TextField
        v-for="number in NUMBERS"
        :key="number.part"
        v-model="number.value.value"
        :label="number.label"
        :hint="number.hint"
        :problem="problem(number.part)"
      />
    </div>
    <TextLines
      v-model="stop"
      label="Texts at which the answer ends"
      :rows="2"
      :problem="problem('stop')"
      hint="One a line, up to four."
    />
    <fieldset v-if="parts.length">
      <legend class="mb-1 font-medium">Requests cannot change</legend>
      <p class="flex flex-wrap gap-x-5 gap-y-1">
        <label v-for="part in parts" :key="part" class="flex items-baseline gap-1.5"
          ><input
            type="checkbox"
            :checked="preset.fixed.value.includes(part)"
            @change="preset.fix(part, ($event.target as HTMLInputElement).checked)"
          />{{ part.replaceAll('_', ' ') }}</label
        >
      </p>
      <p class="text-small mt-1" :class="fixedProblem ? 'text-attention' : 'second'">
        {{ fixedProblem ?? 'What a request says itself counts for the rest.' }}
      </p>
    </fieldset>
  </div>
</template>
