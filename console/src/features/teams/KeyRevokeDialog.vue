<script setup lang="ts">
/** Revoking a key: it is named, because it cannot be undone. */
import type { Schemas } from '@/api/client'
import { useRevokeKey } from '@/api/changes'
import DialogBox from '@/ui/DialogBox.vue'

const props = defineProps<{ held: Schemas['KeyLine'] }>()
const emit = defineEmits<{ close: [] }>()
const revoke = useRevokeKey(() => props.held.team)

function submit() {
  revoke.mutate(props.held.id, { onSuccess: () => emit('close') })
}
</script>

<template>
  <DialogBox open :title="`Revoke ${held.label}?`" @close="emit('close')">
    <p class="mb-3">
      Key <span class="mono">{{ held.id }}</span> of {{ held.team }} is refused everywhere within a second. Apps that
      use it stop working. It cannot be undone; another key can be issued.
    </p>
    <p v-if="revoke.error.value" class="text-attention mb-3" role="alert">{{ revoke.error.value.message }}</p>
    <p class="flex gap-3">
      <button class="button grave" :disabled="revoke.isPending.value" @click="submit">Revoke {{ held.id }}</button>
      <button class="button quiet" @click="emit('close')">Keep it</button>
    </p>
  </DialogBox>
</template>
