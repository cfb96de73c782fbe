<script setup lang="ts">
/** Changing a person: role, being let in at all, a new way in, everything signed out. Each is in force everywhere at once. */
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { useChangePerson, useResetPerson, useSignOutPerson } from '@/api/changes'
import { useTeams } from '@/api/resources'
import { grouped } from '@/lib/format'
import DialogBox from '@/ui/DialogBox.vue'
import FilterChoice from '@/ui/FilterChoice.vue'
import OneTimeGiven from './OneTimeGiven.vue'
import { mayWords, needsTeam, ROLE_CHOICES } from './words'

const props = defineProps<{ person: Schemas['PersonLine'] }>()
const emit = defineEmits<{ close: [] }>()
const name = () => props.person.name
const change = useChangePerson(name)
const reset = useResetPerson(name)
const signOut = useSignOutPerson(name)
const teams = useTeams()
const role = ref(props.person.role)
const team = ref(props.person.team ?? '')
const names = computed(() => (teams.data.value ?? []).map((one) => ({ value: one.name, words: one.name })))
const isOther = computed(
  () => role.value !== props.person.role || (needsTeam(role.value) && team.value !== (props.person.team ?? '')),
)
const canChange = computed(() => isOther.value && (!needsTeam(role.value) || team.value !== ''))
const isBusy = computed(() => change.isPending.value || reset.isPending.value || signOut.isPending.value)
const problem = computed(() => change.error.value ?? reset.error.value ?? signOut.error.value)
const out = computed(() => signOut.data.value)

function setRole() {
  const body = { role: role.value, team: needsTeam(role.value) ? team.value : null }
  change.mutate(body, { onSuccess: () => emit('close') })
}

function setDisabled(disabled: boolean) {
  change.mutate({ disabled }, { onSuccess: () => emit('close') })
}

/** A sign-in that is shown this once is not lost to a stray Escape or click. */
function close() {
  if (!reset.data.value) emit('close')
}
</script>

<template>
  <DialogBox open :title="reset.data.value ? 'Their sign-in, this once' : person.name" @close="close">
    <OneTimeGiven v-if="reset.data.value" :given="reset.data.value" @close="emit('close')" />
    <div v-else class="grid gap-4">
      <form class="grid gap-2" @submit.prevent="setRole">
        <p class="flex flex-wrap items-baseline gap-6">
          <FilterChoice v-model="role" label="Role" :options="ROLE_CHOICES" />
          <FilterChoice v-if="needsTeam(role)" v-model="team" label="Team" :options="names" any="choose one" />
          <button class="button quiet" :disabled="!canChange || isBusy">Change the role</button>
        </p>
        <p class="second">{{ mayWords(role) }}</p>
      </form>
      <p>
        <button class="follow" :disabled="isBusy" @click="signOut.mutate(undefined)">Sign out everywhere</button>: their
        sessions and tokens end; they can sign in again.
        <span v-if="out" role="status">{{ grouped(out.ended) }} ended.</span>
      </p>
      <p>
        <button class="follow" :disabled="isBusy" @click="reset.mutate(undefined)">Reset</button>: password,
        authenticator app, sessions and tokens are taken away, and a one-time sign-in is made.
      </p>
      <p v-if="person.disabled_at">
        <button class="follow" :disabled="isBusy" @click="setDisabled(false)">Let in again</button>: with their password
        or a new one-time sign-in; what ended stays ended.
      </p>
      <p v-else>
        <button class="button grave" :disabled="isBusy" @click="setDisabled(true)">Disable {{ person.name }}</button>
        Their password, sessions and tokens are refused everywhere within a second.
      </p>
      <p v-if="problem" class="text-attention" role="alert">{{ problem.message }}</p>
      <p><button class="button quiet" @click="emit('close')">Cancel</button></p>
    </div>
  </DialogBox>
</template>
