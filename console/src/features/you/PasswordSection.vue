<script setup lang="ts">
/** A password of one's own; setting it ends everything else that is signed in. */
import { computed, ref } from 'vue'
import { Problem, type Schemas } from '@/api/client'
import { useSetPassword } from '@/api/changes'
import TextField from '@/ui/TextField.vue'

defineProps<{ me: Schemas['Me'] }>()
const set = useSetPassword()
const password = ref('')
const old = ref('')
const problem = computed(() => set.error.value)
const field = computed(() => (problem.value instanceof Problem ? problem.value.field : undefined))
const of = (name: string) => (field.value === name ? problem.value?.message : undefined)

function submit(hasOne: boolean) {
  const body = { password: password.value, old: hasOne ? old.value : null }
  set.mutate(body, {
    onSuccess: () => {
      password.value = ''
      old.value = ''
    },
  })
}
</script>

<template>
  <section>
    <h2>Password</h2>
    <form class="grid max-w-md gap-3.5" @submit.prevent="submit(me.has_password)">
      <TextField
        v-if="me.has_password"
        v-model="old"
        label="The one in force"
        type="password"
        autocomplete="current-password"
        :problem="of('old')"
      />
      <TextField
        v-model="password"
        label="The new one"
        type="password"
        autocomplete="new-password"
        :problem="of('password')"
        hint="12 characters or more: several words that have nothing to do with each other. Your other sessions and tokens end."
      />
      <p v-if="problem && !field" class="text-attention" role="alert">{{ problem.message }}</p>
      <p v-if="set.isSuccess.value" role="status">It is set; everything else that was signed in as you has ended.</p>
      <p>
        <button class="button" :disabled="password === '' || (me.has_password && old === '') || set.isPending.value">
          Set it
        </button>
      </p>
    </form>
  </section>
</template>
