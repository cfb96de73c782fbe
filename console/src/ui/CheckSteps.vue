<script setup lang="ts">
/** The steps of a check, each with what came back; under a step what is the matter, with what can be done about it. */
import { ref } from 'vue'
import { stepWords, type RemedySeen, type StepSeen } from '@/lib/checks'
import { took } from '@/lib/format'
import CopyBlock from './CopyBlock.vue'
import StateWord from './StateWord.vue'
import WithCode from './WithCode.vue'

defineProps<{ steps: readonly StepSeen[]; isBusy: boolean }>()
const emit = defineEmits<{ apply: [remedy: RemedySeen, value: string | undefined] }>()

const SHAPES = { well: 'well', noted: 'limit', failing: 'failing', running: 'degraded' } as const
const shape = (state: string) => (state in SHAPES ? SHAPES[state as keyof typeof SHAPES] : 'off')
const value = ref('')
const isOff = (state: string) => ['not reached', 'not asked', 'to come'].includes(state)
</script>

<template>
  <ol class="border-rule border-t" :aria-busy="isBusy">
    <li
      v-for="(step, index) in steps"
      :key="step.step"
      class="border-rule border-b py-1"
      :data-step="step.step"
      :data-state="step.state"
    >
      <div class="grid grid-cols-[126px_1fr_auto] items-baseline gap-x-3" :class="{ second: isOff(step.state) }">
        <StateWord
          :word="step.step"
          :shape="shape(step.state)"
          quiet
          :class="{ 'font-semibold': step.findings.length > 0 }"
        />
        <span :title="step.tried"><WithCode :text="stepWords(step, steps[index - 1])" /></span>
        <span class="num second">{{ took(step.took_us) }}</span>
        <span class="sr-only">{{ step.state }}</span>
      </div>
      <div
        v-for="finding in step.findings"
        :key="finding.kind"
        class="bg-well mt-2 mb-1 border-l-2 px-3.5 py-2.5"
        :class="finding.weight === 'failing' ? 'border-attention' : 'border-caution'"
        role="status"
        :data-finding="finding.kind"
      >
        <p class="mb-2"><WithCode :text="finding.says" /></p>
        <div v-for="(remedy, place) in finding.remedies" :key="remedy.says" class="mt-2">
          <form
            v-if="remedy.by === 'wendor'"
            class="flex flex-wrap items-center gap-2.5"
            @submit.prevent="emit('apply', remedy, remedy.needs_value ? value : undefined)"
          >
            <input
              v-if="remedy.needs_value"
              v-model="value"
              class="field max-w-56"
              :aria-label="`Value: ${remedy.says}`"
            />
            <button
              class="button"
              :class="{ quiet: place > 0 }"
              type="submit"
              :disabled="isBusy || (remedy.needs_value && value === '')"
            >
              {{ remedy.says }}
            </button>
          </form>
          <template v-else-if="remedy.by === 'owner'">
            <p class="second text-small mb-1">For whoever runs the server:</p>
            <CopyBlock :text="remedy.says" what="the sentence" />
          </template>
          <p v-else><WithCode :text="`${remedy.says}.`" /></p>
        </div>
      </div>
    </li>
  </ol>
</template>
