<script setup lang="ts">
/** A new team, route or webhook: what it cannot be without; everything else on its page. From `/revisions/current`. */
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useApply, useCatalogue } from '@/api/catalogue'
import { Problem } from '@/api/client'
import { pointer, type Kind, type Table } from '@/lib/edits'
import { paths } from '@/lib/paths'
import FilterChoice from '@/ui/FilterChoice.vue'
import PageHead from '@/ui/PageHead.vue'
import TextField from '@/ui/TextField.vue'

type New = Exclude<Kind, 'upstreams'>

const props = defineProps<{ kind: New }>()
const router = useRouter()
const catalogue = useCatalogue()
const apply = useApply()
const BACK = { teams: paths.teams, routes: paths.routes, webhooks: paths.events }
const WORDS = { teams: 'team', routes: 'route', webhooks: 'webhook' }
const { isPending } = apply
const [name, offer, address, secret] = [ref(''), ref(''), ref(''), ref('')]
const offers = computed(() => {
  const document = catalogue.data.value?.document as { upstreams?: Record<string, Table> } | undefined
  return Object.entries(document?.upstreams ?? {}).flatMap(([upstream, one]) =>
    Object.keys((one.offers as Table | undefined) ?? {}).map((model) => `${upstream}/${model}`),
  )
})
const things: Record<New, () => Table> = {
  teams: () => ({}),
  routes: () => ({ stages: [{ offers: [offer.value] }] }),
  webhooks: () => ({ address: address.value.trim(), secret: { env: secret.value.trim() } }),
}
const isWhole = computed(
  () =>
    name.value.trim() !== '' &&
    (props.kind !== 'routes' || offer.value !== '') &&
    (props.kind !== 'webhooks' || (address.value.trim() !== '' && secret.value.trim() !== '')),
)
const problem = computed(() => {
  const error = apply.error.value
  if (!error) return undefined
  return error instanceof Problem && error.problems.length
    ? error.problems.map((one) => one.message).join(' ')
    : error.message
})
const leadsTo = { teams: paths.editTeam, routes: paths.editRoute, webhooks: paths.editWebhook }

async function make() {
  const path = pointer(props.kind, name.value.trim())
  await apply.mutateAsync({ edits: [{ op: 'add', path, value: things[props.kind]() }], note: '' })
  await router.push(leadsTo[props.kind](name.value.trim()))
}
</script>

<template>
  <PageHead :title="`A new ${WORDS[kind]}`"><RouterLink :to="BACK[kind]">Back to the list</RouterLink></PageHead>
  <form class="grid max-w-xl gap-3.5" @submit.prevent="make().catch(() => undefined)">
    <TextField v-model="name" label="Name" hint="1 to 64 of a-z, 0-9, . _ -." />
    <FilterChoice
      v-if="kind === 'routes'"
      v-model="offer"
      label="Its first offer"
      any="choose one"
      :options="offers.map((value) => ({ value, words: value }))"
    />
    <template v-if="kind === 'webhooks'">
      <TextField v-model="address" label="Address" hint="Such as https://alerts.example/wendor." />
      <TextField
        v-model="secret"
        label="Variable with its secret"
        hint="An environment variable of the service, such as WENDOR_WEBHOOK_ON_CALL; messages are signed with its value."
      />
    </template>
    <p v-if="problem" class="text-attention" role="alert">{{ problem }}</p>
    <p class="flex gap-3">
      <button class="button" type="submit" :disabled="!isWhole || isPending">Add it</button>
    </p>
  </form>
</template>
