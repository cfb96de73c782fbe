<script setup lang="ts">
/** How is this upstream, what does it offer at which rate, how long does it take? For the one on call. From `/upstreams`, `/usage`. */
import { computed, ref } from 'vue'
import { useUpstreams, useUsage } from '@/api/resources'
import { grouped } from '@/lib/format'
import { paths } from '@/lib/paths'
import { spanOf } from '@/lib/range'
import { upstreamSentence } from '@/lib/sentences'
import { useClock } from '@/ui/clock'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import StateWord from '@/ui/StateWord.vue'
import TypicalStrips from '@/ui/TypicalStrips.vue'
import CredentialDialog from './CredentialDialog.vue'
import DrainButton from './DrainButton.vue'
import HealthTable from './HealthTable.vue'
import LimitTable from './LimitTable.vue'
import OfferTable from './OfferTable.vue'

const props = defineProps<{ name: string }>()
const upstreams = useUpstreams()
const now = useClock()
const isSettingKey = ref(false)
const upstream = computed(() => upstreams.data.value?.find((one) => one.name === props.name))
const day = spanOf('24h', new Date())
const asked = computed(() => ({
  from: day.from.toISOString(),
  to: day.to.toISOString(),
  upstream: props.name,
  by: 'offer',
}))
// Before the upstream is known to be there, its figures would only be a second problem.
const usage = useUsage(asked, () => upstream.value !== undefined)
const requests = computed(() => ({ path: paths.requests, query: { upstream: props.name, range: '24h' } }))
const failed = computed(() => ({ path: paths.requests, query: { upstream: props.name, range: '24h', end: 'failed' } }))
</script>

<template>
  <PageHead :title="name">
    <template v-if="upstream">
      <StateWord :word="upstream.state" />
      <StateWord v-if="upstream.drained" word="drained" />
      <RouterLink :to="paths.check(name)">Check it</RouterLink>
      <RouterLink :to="paths.editUpstream(name)">Edit</RouterLink>
      <span class="mono">{{ upstream.address }}</span>
    </template>
  </PageHead>
  <FourStates what="this upstream" :query="upstreams" :is-empty="!upstream" @retry="upstreams.refetch()">
    <template #empty
      >There is no upstream {{ name }} in the catalogue.
      <RouterLink :to="paths.upstreams">All upstreams</RouterLink></template
    >
    <template v-if="upstream">
      <p class="text-lead mb-3 max-w-4xl">{{ upstreamSentence(upstream, now) }}</p>
      <div class="grid gap-x-11 lg:grid-cols-2">
        <section>
          <h2>What it is</h2>
          <dl>
            <dt>address</dt>
            <dd class="mono">{{ upstream.address }}</dd>
            <dt>dialect</dt>
            <dd>{{ upstream.dialect }}</dd>
            <dt>hosting</dt>
            <dd>
              {{ upstream.hosting === 'own' ? 'our own hardware' : 'hosted, paid for by use'
              }}{{ upstream.place ? `, ${upstream.place}` : '' }}
            </dd>
            <dt>credential</dt>
            <dd>
              {{ upstream.credential }}
              <button class="follow text-small" @click="isSettingKey = true">Another key</button>
            </dd>
            <dt>streams</dt>
            <dd>
              {{ upstream.streams_open }} open{{
                upstream.streams == null ? ', no limit known' : ` of ${grouped(upstream.streams)}`
              }}{{ upstream.waiting > 0 ? `, ${grouped(upstream.waiting)} wait for room` : '' }}
              <DrainButton :upstream="upstream" />
            </dd>
            <dt>tokens under way</dt>
            <dd>
              {{ grouped(upstream.tokens_open)
              }}{{ upstream.tokens == null ? ', no limit known' : ` of ${grouped(upstream.tokens)}` }}
              <span class="second">as they are estimated</span>
            </dd>
          </dl>
        </section>
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
              <p class="mt-2">
                {{ grouped(usage.data.value.together.requests) }} requests,
                <RouterLink :to="failed">{{ grouped(usage.data.value.together.not_answered) }} not answered</RouterLink>
              </p>
            </template>
          </FourStates>
        </section>
      </div>
      <CredentialDialog v-if="isSettingKey" :name="name" @close="isSettingKey = false" />
      <LimitTable :upstream="upstream" />
      <HealthTable :upstream="upstream" />
      <OfferTable :upstream="upstream" :usage="usage.data.value" />
    </template>
  </FourStates>
</template>
