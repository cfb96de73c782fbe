<script setup lang="ts">
/** Give an upstream another key, which is kept encrypted; the one before may go on for a while. */
import { computed, ref } from 'vue'
import { useSetCredential } from '@/api/connecting'
import { instant } from '@/lib/format'
import DialogBox from '@/ui/DialogBox.vue'
import FilterChoice from '@/ui/FilterChoice.vue'
import TextField from '@/ui/TextField.vue'

const props = defineProps<{ name: string }>()
const emit = defineEmits<{ close: [] }>()
const OVERLAPS = [
  { value: '0', words: 'at once' },
  { value: '3600', words: 'after an hour' },
  { value: '86400', words: 'after a day' },
]
const set = useSetCredential(() => props.name)
const text = ref('')
const overlap = ref('0')
const kept = computed(() => set.data.value)

const submit = () =>
  set.mutateAsync({ value: text.value, overlap_seconds: Number(overlap.value) }).catch(() => undefined)
</script>

<template>
  <DialogBox open :title="`Another key for ${name}`" @close="emit('close')">
    <form v-if="!kept" class="grid gap-3" @submit.prevent="submit">
      <TextField
        v-model="text"
        label="The key that the service issued"
        type="password"
        :problem="set.error.value?.message"
        hint="Stored encrypted and never shown again."
      />
      <FilterChoice v-model="overlap" label="The one before ends" :options="OVERLAPS" />
      <p class="flex gap-2.5">
        <button class="button" type="submit" :disabled="text.trim() === '' || set.isPending.value">Keep it</button>
        <button class="button quiet" type="button" @click="emit('close')">Cancel</button>
      </p>
    </form>
    <div v-else class="grid gap-3">
      <p>
        Kept as <span class="mono">{{ kept.id }}</span>; revision {{ kept.revision }} uses it.
        <template v-if="kept.previous_until">
          Where it is refused, the one before is used until {{ instant(new Date(kept.previous_until)) }}.
        </template>
      </p>
      <p><button class="button" @click="emit('close')">Close</button></p>
    </div>
  </DialogBox>
</template>
