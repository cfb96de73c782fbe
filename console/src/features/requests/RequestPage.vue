<script setup lang="ts">
/** What happened to this request, what did it cost, and why this offer? For whoever asks "why did it do that". From `/requests/{id}`. */
import { computed } from 'vue'
import { useRequest } from '@/api/resources'
import { clock, dayName, duration, instant } from '@/lib/format'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import StripLarge from '@/ui/StripLarge.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import ChangedTable from './ChangedTable.vue'
import CostTable from './CostTable.vue'
import PlanTable from './PlanTable.vue'
import PresetTable from './PresetTable.vue'

const props = defineProps<{ id: string }>()
const shown = useRequest(() => props.id)
const request = computed(() => shown.data.value?.request)
const title = computed(() =>
  request.value ? `One request of ${request.value.team} to ${request.value.route}` : `Request ${props.id}`,
)
const rate = computed(() => {
  const line = request.value
  if (!line?.first_token_ms) return undefined
  const streamed = line.whole_ms - line.first_token_ms
  return streamed > 0 && line.tokens.output > 0
    ? `${Math.round((line.tokens.output * 1_000) / streamed)} tokens/s`
    : undefined
})
const idsThere = computed(() =>
  (shown.data.value?.attempts ?? []).map((tried) => ({
    id: tried.upstream_request_id,
    upstream: tried.offer.split('/', 1)[0],
  })),
)
const labels = computed(() => Object.entries(request.value?.labels ?? {}).map(([name, value]) => `${name}=${value}`))
</script>

<template>
  <PageHead :title="title">
    <template v-if="request">
      <span class="mono">{{ request.id }}</span>
      <span :title="instant(new Date(request.at))"
        >{{ dayName(new Date(request.at)) }}, {{ clock(new Date(request.at)) }}, <TimeAgo :at="request.at"
      /></span>
    </template>
  </PageHead>
  <FourStates what="this request" :query="shown" @retry="shown.refetch()">
    <template v-if="shown.data.value && request">
      <p class="text-lead mb-4.5 max-w-4xl">{{ shown.data.value.summary }}</p>
      <StripLarge
        :times="request"
        :tries="shown.data.value.attempts"
        :offer="request.offer ?? 'no offer'"
        :rate="rate"
      />
      <p v-if="!shown.data.value.detail_kept" class="second">Its plan and attempts are no longer kept.</p>
      <div class="grid gap-x-11 lg:grid-cols-2">
        <CostTable :shown="shown.data.value" />
        <div>
          <PresetTable v-if="shown.data.value.preset.length > 0" :shown="shown.data.value" />
          <ChangedTable :changes="shown.data.value.changes" />
        </div>
      </div>
      <PlanTable v-if="shown.data.value.plan.length > 0" :shown="shown.data.value" />
      <div class="grid gap-x-11 lg:grid-cols-2">
        <section>
          <h2>Where its time went</h2>
          <table>
            <tbody>
              <tr v-for="part in shown.data.value.latency" :key="part.what">
                <th scope="row">{{ part.what }}</th>
                <td class="num">{{ duration(part.ms) }}</td>
              </tr>
              <tr class="total">
                <th scope="row">together</th>
                <td class="num">{{ duration(request.whole_ms) }}</td>
              </tr>
            </tbody>
          </table>
        </section>
        <section>
          <h2>Who asked, and where it went</h2>
          <dl>
            <dt>team</dt>
            <dd>
              <RouterLink :to="paths.team(request.team)">{{ request.team }}</RouterLink>
            </dd>
            <dt>key</dt>
            <dd>
              <RouterLink :to="{ path: paths.requests, query: { key: request.key } }">{{
                shown.data.value.key_label ?? request.key
              }}</RouterLink>
              <span class="second mono ml-1.5"> {{ request.key }}</span>
            </dd>
            <dt>route</dt>
            <dd>
              <RouterLink :to="paths.route(request.route)">{{ request.route }}</RouterLink>
            </dd>
            <template v-if="request.run">
              <dt>run</dt>
              <dd>
                <RouterLink :to="{ path: paths.requests, query: { run: request.run } }">{{ request.run }}</RouterLink>
                {{ request.step ? `, step ${request.step}` : '' }}
              </dd>
            </template>
            <template v-if="labels.length > 0">
              <dt>labels</dt>
              <dd v-for="label in labels" :key="label" class="col-start-2">
                <RouterLink :to="{ path: paths.requests, query: { label } }">{{ label }}</RouterLink>
              </dd>
            </template>
            <dt>answered as</dt>
            <dd>{{ request.streamed ? 'a stream' : 'a whole reply' }}, at revision {{ request.revision }}</dd>
            <template v-for="tried in idsThere" :key="tried.id">
              <dt title="x-request-id, as its log has it">id at {{ tried.upstream }}</dt>
              <dd class="mono">{{ tried.id }}</dd>
            </template>
          </dl>
        </section>
      </div>
    </template>
  </FourStates>
</template>
