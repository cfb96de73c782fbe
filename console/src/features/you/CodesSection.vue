<script setup lang="ts">
/** An authenticator app of one's own: set up with a square and a first code, taken away again. */
import { ref } from 'vue'
import type { Schemas } from '@/api/client'
import { useBeginCodes, useRemoveCodes, useSetUpCodes } from '@/api/changes'
import { grouped, instant } from '@/lib/format'
import CopyBlock from '@/ui/CopyBlock.vue'
import SquareCode from '@/ui/SquareCode.vue'
import TextField from '@/ui/TextField.vue'

defineProps<{ me: Schemas['Me'] }>()
const begin = useBeginCodes()
const setUp = useSetUpCodes()
const remove = useRemoveCodes()
const code = ref('')

function submit() {
  setUp.mutate({ code: code.value })
}
</script>

<template>
  <section>
    <h2>Authenticator app</h2>
    <div v-if="setUp.data.value" class="grid max-w-xl gap-3">
      <p role="status">
        It is set up. If you lose it, each of these works once in place of a code. Keep them where the app is not; they
        are not shown again.
      </p>
      <CopyBlock :text="setUp.data.value.codes.join('\n')" what="the recovery codes" />
    </div>
    <p v-if="me.codes_since" class="mt-2">
      Codes are asked of you since {{ instant(new Date(me.codes_since)) }}; {{ grouped(me.recovery_codes) }} recovery
      codes are left.
      <button class="follow" :disabled="remove.isPending.value" @click="remove.mutate(undefined)">Take it away</button>
      <span v-if="remove.error.value" class="text-attention" role="alert">{{ remove.error.value.message }}</span>
    </p>
    <template v-else-if="begin.data.value">
      <form class="flex flex-wrap items-start gap-6" @submit.prevent="submit">
        <SquareCode :rows="begin.data.value.picture" words="The square to be scanned; its secret stands beside it" />
        <div class="grid max-w-md gap-3.5">
          <p>Scan the square with the app, or type this secret into it:</p>
          <CopyBlock :text="begin.data.value.secret" what="the secret" />
          <TextField
            v-model="code"
            label="The code that it shows now"
            autocomplete="one-time-code"
            :problem="setUp.error.value?.message"
          />
          <p><button class="button" :disabled="code === '' || setUp.isPending.value">Set it up</button></p>
        </div>
      </form>
    </template>
    <template v-else-if="!me.codes_since">
      <p class="mb-2 max-w-xl">
        None is set up. With one, a code of it is asked for beside your password, so that a password alone lets nobody
        in.
      </p>
      <p v-if="begin.error.value" class="text-attention mb-2" role="alert">{{ begin.error.value.message }}</p>
      <button class="button quiet" :disabled="begin.isPending.value" @click="begin.mutate(undefined)">Begin</button>
    </template>
  </section>
</template>
