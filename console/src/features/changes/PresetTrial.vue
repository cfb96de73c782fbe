<script setup lang="ts">
/** The preset of a draft tried on a question, beside the one in force. From `/routes/{name}/preset/trial`. */
import { computed, ref, watch } from 'vue'
import { usePresetTrial } from '@/api/catalogue'
import type { Schemas } from '@/api/client'
import { duration, grouped, money } from '@/lib/format'
import type { Table } from '@/lib/edits'
import TextField from '@/ui/TextField.vue'
import type { Draft } from './useDraft'

const props = defineProps<{ draft: Draft; name: string; thing: Table }>()
const question = ref('')
const asDraft = usePresetTrial()
const asIs = usePresetTrial()
const was = computed(() => {
  const routes = (props.draft.catalogue.data.value?.document as { routes?: Record<string, Table> } | undefined)?.routes
  return routes?.[props.name]?.preset as Table | undefined
})
const isOther = computed(() => JSON.stringify(was.value ?? {}) !== JSON.stringify(props.thing.preset ?? {}))
const names = computed(() => ((props.thing.preset as Table | undefined)?.required as string[] | undefined) ?? [])
const values = ref<Record<string, string>>({})
const filled = (of: readonly string[]) => Object.fromEntries(of.map((name) => [name, values.value[name] || name]))

watch(props.draft.edits, () => {
  asDraft.reset()
  asIs.reset()
})
function ask() {
  const edits = props.draft.edits.value
  const asked = { question: question.value.trim(), edits, variables: filled(names.value) }
  // A route that a draft renames is asked for by the name that it will have.
  asDraft.mutate({ name: props.draft.newName.value, body: asked })
  const before = (was.value?.required as string[] | undefined) ?? []
  if (isOther.value) asIs.mutate({ name: props.name, body: { question: asked.question, variables: filled(before) } })
}
const isPending = computed(() => asDraft.isPending.value || asIs.isPending.value)
const told = (tried: Schemas['PresetTried']) =>
  `${tried.offer} answered in ${duration(tried.whole_ms)}: ${grouped(tried.tokens.all_input)} tokens in, ${grouped(tried.tokens.output)} out, ${tried.cost ? `${money(tried.cost, 6)} ${tried.currency}` : 'unpriced'}.`
</script>

<template>
  <form class="mt-3 max-w-4xl" @submit.prevent="ask">
    <div class="flex flex-wrap items-end gap-3">
      <div class="min-w-72 grow">
        <TextField
          v-model="question"
          label="Try it on a question"
          hint="One request to the first offer of the route, paid as a check; nothing is applied."
        />
      </div>
      <p class="mb-6">
        <button class="button quiet" :disabled="isPending || !question.trim()">
          {{ isPending ? 'Asking; an answer may take up to two minutes' : 'Try it' }}
        </button>
      </p>
    </div>
    <p v-if="names.length" class="mb-2 flex flex-wrap gap-x-5 gap-y-1">
      <label v-for="one in names" :key="one" class="second text-small"
        >{{ one }} <input v-model="values[one]" class="field w-48" :placeholder="one"
      /></label>
    </p>
  </form>
  <div class="grid max-w-4xl gap-x-11 sm:grid-cols-2" role="status">
    <section
      v-for="side in [
        { head: isOther ? 'With this draft' : 'As it is', trial: asDraft },
        { head: 'As it is now', trial: asIs },
      ]"
      v-show="side.trial.data.value ?? side.trial.error.value"
      :key="side.head"
    >
      <h3 class="mt-2 font-semibold">{{ side.head }}</h3>
      <p v-if="side.trial.error.value" class="text-attention">{{ side.trial.error.value.message }}</p>
      <template v-if="side.trial.data.value">
        <p class="my-1.5 whitespace-pre-wrap">{{ side.trial.data.value.answer }}</p>
        <p class="second text-small">{{ told(side.trial.data.value) }} {{ side.trial.data.value.summary }}</p>
      </template>
    </section>
  </div>
</template>
