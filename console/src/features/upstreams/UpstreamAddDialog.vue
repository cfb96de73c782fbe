<script setup lang="ts">
/** Bring a server in: paste its address, see layer by layer whether it answers, choose what to offer, write it. */
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { took } from '@/lib/format'
import { duration } from '@/lib/format'
import { paths } from '@/lib/paths'
import CheckSteps from '@/ui/CheckSteps.vue'
import { useClock } from '@/ui/clock'
import DialogBox from '@/ui/DialogBox.vue'
import FilterChoice from '@/ui/FilterChoice.vue'
import TextField from '@/ui/TextField.vue'
import { HOSTINGS, KEY_PLACES, modelWords } from './addition'
import { useAddition } from './useAddition'

const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const now = useClock()
const addition = useAddition()
const { address, keyPlace, keyText, name, hosting, chosen, report, steps, isUsable } = addition
const problem = computed(() => addition.check.error.value ?? addition.add.error.value)
const isLooking = computed(() => addition.check.isPending.value)
const time = computed(() => {
  if (isLooking.value) return `checking, ${duration(Math.max(0, now.value - addition.check.submittedAt.value))}`
  return report.value ? `${took(report.value.took_us)}, nothing spent` : ''
})
const keyLabel = computed(() =>
  keyPlace.value === 'env' ? 'The variable’s name' : keyPlace.value === 'file' ? 'The file’s path' : 'The key',
)
const offers = computed(() => (chosen.value.length === 1 ? '1 offer' : `${chosen.value.length} offers`))

async function write() {
  await addition.write()
  emit('close')
  await router.push(paths.upstream(name.value))
}
</script>

<template>
  <DialogBox open wide title="Bring in an upstream" @close="emit('close')">
    <p v-if="time" class="second text-small -mt-9 mb-3 text-right" role="status">{{ time }}</p>
    <form class="grid gap-3" @submit.prevent="addition.look().catch(() => undefined)">
      <TextField
        v-model="address"
        label="Address, as you would type it in a browser or an app"
        hint=""
        @input="addition.retyped()"
      />
      <div class="-mt-2 flex flex-wrap items-end gap-x-6 gap-y-2">
        <FilterChoice v-model="keyPlace" label="Key" :options="KEY_PLACES" @change="addition.retyped()" />
        <TextField
          v-if="keyPlace !== 'none'"
          v-model="keyText"
          class="min-w-64 grow"
          :label="keyLabel"
          :type="keyPlace === 'value' ? 'password' : 'text'"
          @input="addition.retyped()"
        />
        <button class="button quiet ml-auto" type="submit" :disabled="address.trim() === '' || isLooking">Look</button>
      </div>
    </form>
    <CheckSteps
      v-if="report || isLooking"
      class="mt-3"
      :steps="steps"
      :is-busy="isLooking"
      @apply="(remedy, value) => addition.apply(remedy, value).catch(() => undefined)"
    />
    <fieldset v-if="report && isUsable" class="mt-4">
      <legend class="mb-1 font-medium">What to offer to routes</legend>
      <p v-if="report.models.length === 0" class="second">
        It lists no models; name them later, on its page or in the catalogue file.
      </p>
      <label v-for="model in report.models" :key="model.name" class="flex items-baseline gap-2.5 py-0.5">
        <input v-model="chosen" type="checkbox" :value="model.name" />
        <span>{{ model.name }}</span>
        <span class="second text-small">{{ modelWords(model) }}</span>
      </label>
      <div class="mt-3 flex flex-wrap items-end gap-x-6 gap-y-2">
        <TextField v-model="name" class="w-72" label="Name of the upstream" />
        <FilterChoice v-model="hosting" class="pb-2" label="It is" :options="HOSTINGS" />
      </div>
    </fieldset>
    <p v-if="problem" class="text-attention mt-3" role="alert">{{ problem.message }}</p>
    <p class="mt-4 flex gap-2.5">
      <button
        class="button"
        :disabled="!isUsable || name === '' || addition.add.isPending.value"
        @click="write().catch(() => undefined)"
      >
        Add with {{ offers }}
      </button>
      <button class="button quiet" @click="emit('close')">Close <kbd>Esc</kbd></button>
    </p>
  </DialogBox>
</template>
