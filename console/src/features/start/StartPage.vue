<script setup lang="ts">
/** How does an empty installation come to its first answer? For whoever sets it up. From the management API, and one question to a route. */
import { computed } from 'vue'
import CheckSteps from '@/ui/CheckSteps.vue'
import CopyBlock from '@/ui/CopyBlock.vue'
import PageHead from '@/ui/PageHead.vue'
import TextField from '@/ui/TextField.vue'
import FirstAnswer from './FirstAnswer.vue'
import StartStep from './StartStep.vue'
import { useFirstRun } from './useFirstRun'

const { problem, busy, server, asking, offer, route, team, isKnown } = useFirstRun()
const { address, key: serverKey, report, steps, isLooking, isUsable, look, mend, bringIn } = server
const { routeName, teamName, question, answer, answered, key, makeRoute, makeKey, askIt } = asking
const isBusy = computed(() => busy.value !== undefined)
const wantsKey = computed(() => steps.value.some((step) => step.findings.some((one) => one.kind.startsWith('key-'))))
</script>

<template>
  <PageHead title="First run"><span>from an empty installation to an answer</span></PageHead>
  <p v-if="problem" class="text-attention" role="alert">{{ problem.message }}</p>

  <StartStep :number="1" title="A model server" :done="offer" :is-open="isKnown && !offer">
    <form class="grid gap-3" @submit.prevent="look">
      <TextField
        v-model="address"
        label="Its address, as you would type it in a browser or an app"
        hint="For example: http://127.0.0.1:8000"
      />
      <TextField
        v-if="wantsKey || serverKey"
        v-model="serverKey"
        label="Its key"
        type="password"
        hint="Stored encrypted and never shown again."
      />
      <p><button class="button quiet" type="submit" :disabled="address.trim() === '' || isBusy">Look</button></p>
    </form>
    <CheckSteps v-if="report || isLooking" class="mt-3" :steps="steps" :is-busy="isBusy" @apply="mend" />
    <p v-if="isUsable" class="mt-3">
      <button class="button" :disabled="isBusy" @click="bringIn">Add it</button>
    </p>
  </StartStep>

  <StartStep :number="2" title="A route" :done="route" :is-open="isKnown && offer !== undefined && !route">
    <form class="grid gap-3" @submit.prevent="makeRoute">
      <TextField
        v-model="routeName"
        label="The name that apps put in “model”"
        :hint="`It leads to ${offer}; more offers can follow.`"
      />
      <p><button class="button" type="submit" :disabled="routeName === '' || isBusy">Make the route</button></p>
    </form>
  </StartStep>

  <StartStep
    :number="3"
    title="A team and its key"
    :done="key ? team : undefined"
    :is-open="offer !== undefined && route !== undefined && !key"
  >
    <form class="grid gap-3" @submit.prevent="makeKey">
      <TextField v-if="!team" v-model="teamName" label="The team that pays" />
      <p v-else>{{ team }} gets a key of its own for this first run.</p>
      <p><button class="button" type="submit" :disabled="teamName === '' || isBusy">Make its key</button></p>
    </form>
    <template v-if="key" #after>
      <p class="max-w-3xl pt-2 pb-1">Copy it now: only its hash is kept, so it can never be shown again.</p>
      <div class="max-w-3xl"><CopyBlock :text="key" what="the key" /></div>
    </template>
  </StartStep>

  <StartStep :number="4" title="The first answer" :done="undefined" :is-open="key !== undefined">
    <form class="grid gap-3" @submit.prevent="askIt">
      <TextField v-model="question" label="A question" />
      <p><button class="button" type="submit" :disabled="question === '' || isBusy">Ask</button></p>
    </form>
    <p v-if="answer" class="bg-well mt-3 px-3.5 py-2.5" data-answer>{{ answer }}</p>
    <FirstAnswer v-if="answered" :answered="answered" :route="route ?? ''" />
  </StartStep>
</template>
