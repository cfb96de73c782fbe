<script setup lang="ts">
/** Who are you: with the one-time sign-in of a new person, or with name and password. From `POST /manage/v1/session`. */
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useSignIn } from '@/api/changes'
import { Problem } from '@/api/client'
import TextField from '@/ui/TextField.vue'
import WendorMark from '@/ui/WendorMark.vue'
import { afterSignIn } from './router'

const route = useRoute()
const router = useRouter()
const signIn = useSignIn()
const way = ref<'once' | 'password'>('once')
const oneTime = ref('')
const name = ref('')
const password = ref('')
const code = ref('')
/** Whether the password was right, and a code is asked for beside. */
const needsCode = ref(false)
const canTry = computed(() =>
  way.value === 'once' ? oneTime.value !== '' : name.value !== '' && password.value !== '',
)
const kindOf = (error: Error | null) => (error instanceof Problem ? error.kind.replace(/.*:/, '') : '')
const isOfCode = (error: Error | null) => ['code-needed', 'wrong-code'].includes(kindOf(error))
const isAboutCode = computed(() => isOfCode(signIn.error.value))
const problem = computed(() => (isAboutCode.value ? undefined : signIn.error.value?.message))
const problemOfCode = computed(() =>
  kindOf(signIn.error.value) === 'wrong-code' ? signIn.error.value?.message : undefined,
)

function turn(to: 'once' | 'password') {
  way.value = to
  needsCode.value = false
  signIn.reset()
}

function submit() {
  const presented =
    way.value === 'once'
      ? { one_time: oneTime.value.trim() }
      : { name: name.value, password: password.value, code: needsCode.value ? code.value : null }
  signIn.mutate(presented, {
    onSuccess: () => void router.push(afterSignIn(route.query['then'])),
    onError: (error) => (needsCode.value ||= isOfCode(error)),
  })
}
</script>

<template>
  <main class="mx-auto max-w-md px-6 pt-24">
    <h1 class="mb-2 flex items-center gap-3"><WendorMark />Sign in to Wendor</h1>
    <p class="second mb-5">
      Wendor is a shared gateway to language models: routes, keys, quotas, and what each team used.
    </p>
    <form class="grid gap-3.5" @submit.prevent="submit">
      <TextField
        v-if="way === 'once'"
        v-model="oneTime"
        label="One-time sign-in"
        type="password"
        :problem="problem"
        hint="It begins with wdt- and works once. Whoever runs Wendor makes one on the server: wendor person sign-in NAME"
      />
      <template v-else>
        <TextField v-model="name" label="Name" autocomplete="username" hint="As you were added." />
        <TextField
          v-model="password"
          label="Password"
          type="password"
          autocomplete="current-password"
          :problem="problem"
          hint="Only if you have set one; else use a one-time sign-in."
        />
        <TextField
          v-if="needsCode"
          v-model="code"
          label="Code"
          autocomplete="one-time-code"
          :problem="problemOfCode"
          hint="The six digits that your authenticator app shows now, or one of your recovery codes."
        />
      </template>
      <p class="flex items-baseline gap-4">
        <button class="button" type="submit" :disabled="!canTry || signIn.isPending.value">Sign in</button>
        <button v-if="way === 'once'" type="button" class="follow" @click="turn('password')">
          With name and password
        </button>
        <button v-else type="button" class="follow" @click="turn('once')">With a one-time sign-in</button>
      </p>
    </form>
    <ul class="second text-small mt-8 grid gap-2">
      <li><strong>The first owner</strong> is added on the server: <code>wendor person add NAME --role owner</code></li>
      <li>
        <strong>Operators, leads and viewers</strong> are added by an owner, under People or on the server with
        <code>wendor person add NAME --role ROLE</code>, and get a one-time sign-in from them.
      </li>
      <li><strong>Apps</strong> need no sign-in: the lead of your team issues a key.</li>
    </ul>
  </main>
</template>
