<script setup lang="ts">
/** What a draft would change, what is wrong with it, and the two ways on: apply it or discard it. After that, one step back. */
import { computed, ref, watch } from 'vue'
import { useApply, useLook } from '@/api/catalogue'
import { Problem } from '@/api/client'
import FilterChoice from '@/ui/FilterChoice.vue'
import TextField from '@/ui/TextField.vue'
import ChangeList from './ChangeList.vue'
import EffectTable from './EffectTable.vue'
import type { Draft } from './useDraft'

const props = defineProps<{ draft: Draft }>()
const undoing = useApply()
const note = ref('')
/** Bounds with which the change undoes itself; none at first. */
const failed = ref('')
const minutes = ref('10')
const TIMES = [
  { value: '10', words: '10 min' },
  { value: '60', words: '1 h' },
  { value: '1440', words: '1 day' },
]
const BOUNDS = [
  { value: '5', words: 'more than 5% of requests fail' },
  { value: '20', words: 'more than 20% of requests fail' },
  { value: '50', words: 'more than half of requests fail' },
]
const guard = computed(() =>
  failed.value ? { seconds: Number(minutes.value) * 60, failed_percent: Number(failed.value) } : null,
)
/** Planning a week anew takes a moment: it is done when asked for. */
const tried = useLook()
const { looking, applying, error, isChanged, done } = props.draft
const difference = computed(() => (looking.error.value ? undefined : looking.data.value))
const isClash = computed(() => error.value instanceof Problem && error.value.status === 409)
/** Also while it is looked at: a press must not be lost to a moment, and the service looks at everything again before it applies it. */
const canApply = computed(() => isChanged.value && !looking.error.value && !applying.isPending.value)
const sentence = computed(() => {
  if (done.value) return `Revision ${done.value.revision} is in force.`
  if (!isChanged.value)
    return 'Nothing is changed yet. What you change is looked at as you type, and applied when you say so.'
  if (looking.isPending.value) return 'Looking at what this would change.'
  return difference.value ? `A draft against revision ${difference.value.base}; nothing is changed yet.` : 'A draft.'
})

watch(props.draft.edits, () => {
  tried.reset()
})
function tryIt() {
  tried.mutate({ ...props.draft.wanted.value, effect: true })
}

async function apply() {
  await props.draft.apply(note.value.trim(), guard.value)
  note.value = ''
}

async function undo() {
  if (!done.value) return
  const { revision, before } = done.value
  await undoing.mutateAsync({ revision: before, base: revision, note: `revision ${revision} undone` })
  done.value = undefined
  props.draft.begin()
}
</script>

<template>
  <section class="border-rule-strong mt-6 border-t pt-3" aria-label="What this would change">
    <p class="text-lead mb-2" role="status">{{ sentence }}</p>
    <p v-if="error" class="text-attention mb-2 max-w-4xl" role="alert">{{ error.message }}</p>
    <ul v-if="draft.problems.value.length" class="mb-2">
      <li v-for="problem in draft.problems.value" :key="problem.path + problem.message" class="text-attention">
        <span class="mono">{{ problem.path }}</span>: {{ problem.message }}
      </li>
    </ul>
    <div v-if="difference && isChanged" class="mb-3 max-w-4xl">
      <ChangeList :difference="difference" />
      <EffectTable v-if="tried.data.value?.effect" :effect="tried.data.value.effect" />
      <p v-else class="mt-2">
        <button class="button quiet" :disabled="tried.isPending.value" @click="tryIt">
          {{ tried.isPending.value ? 'Planning the requests of the last week anew' : 'Try it on the last week' }}
        </button>
      </p>
      <p v-if="tried.error.value" class="text-attention mt-2" role="alert">{{ tried.error.value.message }}</p>
    </div>
    <form
      v-if="isChanged"
      class="flex max-w-4xl flex-wrap items-end gap-3"
      @submit.prevent="apply().catch(() => undefined)"
    >
      <div class="min-w-72 grow">
        <TextField v-model="note" label="Why" hint="For whoever reads the revisions; may stay empty." />
      </div>
      <p class="mb-6 flex flex-wrap items-baseline gap-x-3">
        <FilterChoice v-model="failed" label="Undo it by itself if" any="never" :options="BOUNDS" />
        <FilterChoice v-if="failed" v-model="minutes" label="within" :options="TIMES" />
      </p>
      <p class="mb-6 flex gap-2.5">
        <button class="button" type="submit" :disabled="!canApply">Apply</button>
        <button class="button quiet" type="button" @click="draft.begin()">
          {{ isClash ? 'Begin anew from what is in force' : 'Discard the draft' }}
        </button>
      </p>
    </form>
    <p v-if="done" class="flex gap-2.5">
      <button class="button quiet" :disabled="undoing.isPending.value" @click="undo().catch(() => undefined)">
        Undo
      </button>
    </p>
    <p v-if="undoing.error.value" class="text-attention mt-2" role="alert">{{ undoing.error.value.message }}</p>
  </section>
</template>
