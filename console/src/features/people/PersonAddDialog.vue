<script setup lang="ts">
/** Adding a person: name and role; then their one-time sign-in, this once. */
import { computed, ref } from 'vue'
import { Problem } from '@/api/client'
import { useAddPerson } from '@/api/changes'
import { useTeams } from '@/api/resources'
import DialogBox from '@/ui/DialogBox.vue'
import FilterChoice from '@/ui/FilterChoice.vue'
import TextField from '@/ui/TextField.vue'
import OneTimeGiven from './OneTimeGiven.vue'
import { mayWords, needsTeam, ROLE_CHOICES } from './words'

const emit = defineEmits<{ close: [] }>()
const add = useAddPerson()
const teams = useTeams()
const name = ref('')
const role = ref('operator')
const team = ref('')
const names = computed(() => (teams.data.value ?? []).map((one) => ({ value: one.name, words: one.name })))
const problem = computed(() => add.error.value)
const ofName = computed(() =>
  problem.value instanceof Problem && problem.value.field === 'name' ? problem.value.message : undefined,
)
const canTry = computed(() => name.value.trim() !== '' && (!needsTeam(role.value) || team.value !== ''))

function submit() {
  add.mutate({ name: name.value.trim(), role: role.value, team: needsTeam(role.value) ? team.value : null })
}

/** A sign-in that is shown this once is not lost to a stray Escape or click. */
function close() {
  if (!add.data.value) emit('close')
}
</script>

<template>
  <DialogBox open :title="add.data.value ? 'Their sign-in, this once' : 'Add a person'" @close="close">
    <form v-if="!add.data.value" class="grid gap-3.5" @submit.prevent="submit">
      <TextField
        v-model="name"
        label="Name"
        :problem="ofName"
        hint="a-z, 0-9, and . _ - inside. For example: duty-desk"
      />
      <p class="flex flex-wrap gap-6">
        <FilterChoice v-model="role" label="Role" :options="ROLE_CHOICES" />
        <FilterChoice v-if="needsTeam(role)" v-model="team" label="Team" :options="names" any="choose one" />
        <span class="second">{{ mayWords(role) }}</span>
      </p>
      <p v-if="problem && !ofName" class="text-attention" role="alert">{{ problem.message }}</p>
      <p class="flex gap-3">
        <button class="button" type="submit" :disabled="!canTry || add.isPending.value">Add them</button>
        <button class="button quiet" type="button" @click="emit('close')">Cancel</button>
      </p>
    </form>
    <OneTimeGiven v-else :given="add.data.value" @close="emit('close')" />
  </DialogBox>
</template>
