<script setup lang="ts">
/** Removing a thing: who uses it is told first. */
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useApply, useLook, useUses } from '@/api/catalogue'
import { grouped, listed } from '@/lib/format'
import DialogBox from '@/ui/DialogBox.vue'
import FourStates from '@/ui/FourStates.vue'
import ChangeList from './ChangeList.vue'

const props = defineProps<{ what: string; thing: string; after: string }>()
const isOpen = ref(false)
const router = useRouter()
const uses = useUses(() => props.thing)
const looking = useLook()
const applying = useApply()
const edits = computed(() => [{ op: 'remove', path: props.thing }])
const keysOf = computed(() => listed((uses.data.value?.keys ?? []).map((key) => `${key.label} of ${key.team}`)))
const asked = computed(() =>
  listed((uses.data.value?.requests ?? []).map((team) => `${team.team} ${grouped(team.requests)}`)),
)

function open() {
  isOpen.value = true
  looking.mutate({ edits: edits.value })
}

async function remove() {
  await applying.mutateAsync({
    edits: edits.value,
    base: looking.data.value?.base ?? null,
    note: `${props.what} removed`,
  })
  await router.push(props.after)
}
</script>

<template>
  <button class="button quiet" @click="open">Remove</button>
  <DialogBox v-if="isOpen" open wide :title="`Remove ${what}`" @close="isOpen = false">
    <FourStates what="who uses it" :query="uses" :is-empty="false" @retry="uses.refetch()">
      <dl v-if="uses.data.value" class="mb-3">
        <dt>routes</dt>
        <dd>{{ listed(uses.data.value.routes) || 'none' }}</dd>
        <dt>teams</dt>
        <dd>{{ listed(uses.data.value.teams) || 'none' }}</dd>
        <dt>working keys</dt>
        <dd>{{ keysOf || 'none' }}</dd>
        <dt>requests, 30 days</dt>
        <dd>{{ asked || 'none' }}</dd>
      </dl>
    </FourStates>
    <p class="second mb-2">Its records stay, under its name.</p>
    <ChangeList v-if="looking.data.value" :difference="looking.data.value" />
    <p v-if="looking.error.value ?? applying.error.value" class="text-attention mt-2" role="alert">
      {{ (looking.error.value ?? applying.error.value)?.message }}
    </p>
    <p class="mt-4 flex gap-3">
      <button
        class="button grave"
        :disabled="!looking.data.value || applying.isPending.value"
        @click="remove().catch(() => undefined)"
      >
        Remove it
      </button>
      <button class="button quiet" @click="isOpen = false">Cancel</button>
    </p>
  </DialogBox>
</template>
