<script setup lang="ts">
/** What was changed, when and by whom, and how to get back? For whoever changed it and the one on call. From `/revisions`. */
import { computed, ref } from 'vue'
import { useApply, useComparison, useLook, useRevisions } from '@/api/catalogue'
import { instant } from '@/lib/format'
import { paths } from '@/lib/paths'
import { useClock } from '@/ui/clock'
import DialogBox from '@/ui/DialogBox.vue'
import FourStates from '@/ui/FourStates.vue'
import ListNarrow from '@/ui/ListNarrow.vue'
import { moveInList } from '@/ui/listKeys'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'
import PageHead from '@/ui/PageHead.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import TextField from '@/ui/TextField.vue'
import ChangeList from './ChangeList.vue'

const revisions = useRevisions()
const now = useClock()
const looking = useLook()
const applying = useApply()
const from = ref<number>()
const to = ref<number>()
const restored = ref<number>()
const note = ref('')
const all = computed(() => revisions.data.value ?? [])
const { lines, order, narrow, isLong } = useList(
  () => all.value,
  {
    revision: (one) => one.number,
    made: (one) => one.made_at,
    by: (one) => one.made_by,
    why: (one) => one.note,
  },
  (one) => `${one.number} ${one.made_by} ${one.note}`,
)
const newest = computed(() => all.value[0]?.number ?? 0)
const compared = computed(() => {
  const later = to.value ?? newest.value
  return later === 0 ? undefined : { from: from.value ?? later - 1, to: later }
})
const comparison = useComparison(compared)

function open(number: number) {
  restored.value = number
  note.value = ''
  applying.reset()
  looking.mutate({ revision: number })
}

async function restore() {
  if (restored.value === undefined) return
  await applying.mutateAsync({
    revision: restored.value,
    base: looking.data.value?.base ?? null,
    note: note.value.trim(),
  })
  restored.value = undefined
  from.value = to.value = undefined
}
</script>

<template>
  <PageHead title="Revisions"><RouterLink :to="paths.audit">The audit</RouterLink></PageHead>
  <FourStates what="the revisions" :query="revisions" :is-empty="all.length === 0" @retry="revisions.refetch()">
    <template #empty>There is no revision yet: the first one is made when a first upstream is added.</template>
    <p class="text-lead mb-2">
      Revision {{ newest }} is in force. Every change makes a new one; restoring an old one makes a new one too.
    </p>
    <div class="grid gap-x-11 xl:grid-cols-2">
      <section>
        <ListNarrow v-model="narrow" :shown="isLong" :count="lines.length" />
        <table @keydown="moveInList">
          <thead>
            <tr>
              <SortHead :order="order" column="revision" number>revision</SortHead>
              <SortHead :order="order" column="made">made</SortHead>
              <SortHead :order="order" column="by">by</SortHead>
              <SortHead :order="order" column="why">why</SortHead>
              <th scope="col">compare</th>
              <th scope="col"><span class="sr-only">restore</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in lines" :key="one.number">
              <th scope="row" class="num">{{ one.number }}</th>
              <td><TimeAgo :at="one.made_at" /></td>
              <td>{{ one.made_by }}</td>
              <td>
                {{ one.note || '–' }}
                <span v-if="one.undid != null" class="text-attention">× undid revision {{ one.undid }} by itself</span>
                <span
                  v-else-if="one.number === newest && one.guarded_until && new Date(one.guarded_until) > now"
                  class="second"
                  >may undo itself until {{ instant(new Date(one.guarded_until)) }}</span
                >
              </td>
              <td class="whitespace-nowrap">
                <label
                  ><input
                    type="radio"
                    name="from"
                    :checked="compared?.from === one.number"
                    :aria-label="`From revision ${one.number}`"
                    @change="from = one.number"
                  />
                  from</label
                >
                <label class="ml-2"
                  ><input
                    type="radio"
                    name="to"
                    :checked="compared?.to === one.number"
                    :aria-label="`To revision ${one.number}`"
                    @change="to = one.number"
                  />
                  to</label
                >
              </td>
              <td>
                <span v-if="one.number === newest" class="second">in force</span>
                <button
                  v-else
                  class="button quiet"
                  :aria-label="`Restore revision ${one.number}`"
                  @click="open(one.number)"
                >
                  Restore
                </button>
              </td>
            </tr>
          </tbody>
        </table>
      </section>
      <section v-if="compared" class="min-w-0" aria-label="The comparison">
        <h2>From revision {{ compared.from }} to {{ compared.to }}</h2>
        <FourStates what="the comparison" :query="comparison" :is-empty="false" @retry="comparison.refetch()">
          <ChangeList v-if="comparison.data.value" :difference="comparison.data.value" />
        </FourStates>
      </section>
    </div>
  </FourStates>
  <DialogBox
    v-if="restored !== undefined"
    open
    wide
    :title="`Restore revision ${restored}`"
    @close="restored = undefined"
  >
    <p class="second mb-2">It becomes a new revision. Rates stay as they are: they are only added.</p>
    <ChangeList v-if="looking.data.value" :difference="looking.data.value" />
    <p v-if="looking.error.value ?? applying.error.value" class="text-attention mt-2" role="alert">
      {{ (looking.error.value ?? applying.error.value)?.message }}
    </p>
    <form class="mt-3 grid gap-3" @submit.prevent="restore().catch(() => undefined)">
      <TextField v-model="note" label="Why" hint="For whoever reads the revisions; may stay empty." />
      <p class="flex gap-3">
        <button
          class="button"
          type="submit"
          :disabled="!looking.data.value?.changes.length || applying.isPending.value"
        >
          Restore it
        </button>
        <button class="button quiet" type="button" @click="restored = undefined">Cancel</button>
      </p>
    </form>
  </DialogBox>
</template>
