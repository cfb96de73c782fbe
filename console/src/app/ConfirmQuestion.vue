<script setup lang="ts">
import { capital } from '@/lib/format'
/** Sign in again as yourself: asked over whatever wanted to do something that is guarded, which then goes on. */
import { computed, ref } from 'vue'
import { useConfirm } from '@/api/changes'
import { Problem } from '@/api/client'
import { asking } from '@/api/confirming'
import { useMe } from '@/api/resources'
import DialogBox from '@/ui/DialogBox.vue'
import TextField from '@/ui/TextField.vue'

const me = useMe()
const confirm = useConfirm()
const password = ref('')
const code = ref('')
const needsCode = computed(() => me.data.value?.codes_since != null)
const kind = computed(() => (confirm.error.value instanceof Problem ? confirm.error.value.kind : ''))
const isAboutCode = computed(() => kind.value.endsWith(':code-needed') || kind.value.endsWith(':wrong-code'))
const problem = computed(() => confirm.error.value?.message)
const why = computed(() => (asking.value?.why ?? '').replace(/, sign in again as yourself.*/, ''))

function submit() {
  const body = { password: password.value, code: needsCode.value ? code.value : null }
  confirm.mutate(body, { onSuccess: () => asking.value?.answer(true) })
}
</script>

<template>
  <DialogBox open over title="Confirm that it is you" @close="asking?.answer(false)">
    <form class="grid gap-3.5" @submit.prevent="submit">
      <p>
        {{ capital(why) }}, sign in again as <b>{{ me.data.value?.name }}</b>. For ten minutes it is not asked again.
      </p>
      <TextField
        v-model="password"
        label="Your password"
        type="password"
        autocomplete="current-password"
        :problem="isAboutCode ? undefined : problem"
      />
      <TextField
        v-if="needsCode"
        v-model="code"
        label="Code"
        autocomplete="one-time-code"
        :problem="isAboutCode ? problem : undefined"
        hint="The six digits that your authenticator app shows now, or a recovery code."
      />
      <p class="flex gap-3">
        <button class="button" type="submit" :disabled="password === '' || confirm.isPending.value">Confirm</button>
        <button class="button quiet" type="button" @click="asking?.answer(false)">Cancel</button>
      </p>
    </form>
  </DialogBox>
</template>
