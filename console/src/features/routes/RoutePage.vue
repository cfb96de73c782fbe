<script setup lang="ts">
/** What does this name lead to, within which deadlines, and who may use it? From `/routes`, `/usage`. */
import { computed } from 'vue'
import { useCanChange, useRoutes, useUsage } from '@/api/resources'
import { duration, grouped, listed, share } from '@/lib/format'
import { paths } from '@/lib/paths'
import { spanOf } from '@/lib/range'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import TypicalStrips from '@/ui/TypicalStrips.vue'
import CallerSection from './CallerSection.vue'
import ClientCode from './ClientCode.vue'
import PresetSection from './PresetSection.vue'
import StageTable from './StageTable.vue'

const props = defineProps<{ name: string }>()
const routes = useRoutes()
const canChange = useCanChange()
const route = computed(() => routes.data.value?.find((one) => one.name === props.name))
const day = spanOf('24h', new Date())
const asked = computed(() => ({
  from: day.from.toISOString(),
  to: day.to.toISOString(),
  route: props.name,
  by: 'offer',
}))
const usage = useUsage(asked, () => route.value !== undefined)
const requests = computed(() => ({ path: paths.requests, query: { route: props.name, range: '24h' } }))
const cost = computed(() => ({ path: paths.usage, query: { route: props.name, range: '7d', by: 'team' } }))
/** What keeping turns of a conversation at one offer has come to, and what it saved: input that was read from its memory. */
const together = computed(() => {
  const seen = route.value?.together
  if (!seen) return ''
  const all = seen.kept + seen.elsewhere
  const kept =
    all === 0 ? 'no turn was answered' : `${share(seen.kept, all)} of ${grouped(all)} turns were kept together`
  const tokens = usage.data.value?.together.tokens
  const cached =
    tokens && tokens.all_input > 0 ? `; ${share(tokens.input_cached, tokens.all_input)} of input was cached` : ''
  return `Since this instance started ${kept}${cached}.`
})
/** What it is for, whom to ask, until when, and what it was called. */
const about = computed(() => {
  const one = route.value
  if (!one) return ''
  const former = one.former.map((name) => (name.until ? `${name.name} (served until ${name.until})` : name.name))
  const parts = [
    one.purpose,
    one.owner ? `Ask ${one.owner} about it` : null,
    one.retires_on
      ? `It retires on ${one.retires_on}${one.successor ? `; ${one.successor} is to be used instead` : ''}`
      : null,
    former.length ? `It was called ${listed(former)}` : null,
  ]
  return parts
    .filter((part) => part)
    .map((part) => `${part}.`.replace('..', '.'))
    .join(' ')
})
const sentence = computed(() => {
  const stages = route.value?.stages ?? []
  const first = listed((stages[0]?.offers ?? []).map((one) => one.offer))
  const more =
    stages.length > 1
      ? `; when that fails, ${stages.length === 2 ? 'one stage follows' : `${stages.length - 1} stages follow`}`
      : ''
  return `${props.name} asks ${first}${more}. A request may take ${duration(stages[0]?.whole_ms ?? 0)} in all.`
})
</script>

<template>
  <PageHead :title="name"
    ><RouterLink :to="cost">What it cost</RouterLink>
    <RouterLink v-if="route" :to="paths.explain(name)">What would become of a request</RouterLink>
    <RouterLink v-if="route && canChange" :to="paths.editRoute(name)">Edit</RouterLink></PageHead
  >
  <FourStates what="this route" :query="routes" :is-empty="!route" @retry="routes.refetch()">
    <template v-if="name === 'upstream-check'" #empty
      >Checks of upstreams are recorded under this name; it is not a route for apps.
      <RouterLink :to="{ path: paths.requests, query: { route: name } }">Their requests</RouterLink></template
    >
    <template v-else #empty
      >There is no route {{ name }} that you may see. <RouterLink :to="paths.routes">All routes</RouterLink></template
    >
    <template v-if="route">
      <p class="text-lead mb-3 max-w-4xl">{{ sentence }}</p>
      <p v-if="about" class="mb-3 max-w-4xl">{{ about }}</p>
      <StageTable :stages="route.stages" :usage="usage.data.value" />
      <div class="grid gap-x-11 lg:grid-cols-2">
        <section>
          <h2>In the last 24 hours <RouterLink class="right" :to="requests">Its requests</RouterLink></h2>
          <FourStates
            what="its figures"
            :query="usage"
            :is-empty="usage.data.value?.together.requests === 0"
            @retry="usage.refetch()"
          >
            <template #empty>No requests in this range.</template>
            <template v-if="usage.data.value">
              <TypicalStrips
                :first-token="usage.data.value.together.first_token"
                :whole="usage.data.value.together.whole"
              />
              <p class="mt-2">{{ grouped(usage.data.value.together.requests) }} requests</p>
              <p v-if="together" class="mt-2">{{ together }}</p>
            </template>
          </FourStates>
        </section>
        <section>
          <h2>Access</h2>
          <ul class="mt-1.5">
            <li v-for="team in route.teams" :key="team">
              <RouterLink :to="paths.team(team)">{{ team }}</RouterLink>
            </li>
          </ul>
          <p v-if="route.teams.length === 0" class="second">No team has access.</p>
          <p v-if="route.origins.length > 0" class="mt-2">
            Web pages of {{ listed(route.origins) }} may ask it from a browser.
          </p>
        </section>
      </div>
      <PresetSection v-if="canChange" :route="route.name" />
      <CallerSection v-if="canChange" :route="route" />
      <ClientCode :route="route.name" />
    </template>
  </FourStates>
</template>
