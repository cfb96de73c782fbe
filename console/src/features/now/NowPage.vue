<script setup lang="ts">
/** Is anything wrong, what did yesterday cost beside what it was to cost, what happens just now? For the one on call and the team lead.
 * From `/now` and `/requests`. */
import { computed } from 'vue'
import { useMe, useNow, useUpstreams } from '@/api/resources'
import { clock, dayName, weekdayName } from '@/lib/format'
import { paths } from '@/lib/paths'
import { useClock } from '@/ui/clock'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import LatestRequests from './LatestRequests.vue'
import NoticeList from './NoticeList.vue'
import YesterdayTable from './YesterdayTable.vue'

const now = useNow()
const me = useMe()
const seesAll = computed(() => me.data.value !== undefined && !me.data.value.team)
const upstreams = useUpstreams(seesAll)
const isNew = computed(() => upstreams.data.value?.length === 0)
const time = useClock()
const title = computed(() => {
  const at = new Date(time.value)
  return `${weekdayName(at)} ${dayName(at)}, ${clock(at).slice(0, 5)} UTC`
})
const day = computed(() => (now.data.value ? new Date(`${now.data.value.yesterday}T00:00:00Z`) : undefined))
</script>

<template>
  <PageHead :title="title">
    <span v-if="now.data.value">Yesterday, compared with {{ now.data.value.compared_with }}</span>
  </PageHead>

  <p v-if="isNew" class="text-lead mb-3">
    Nothing is configured yet. The <RouterLink :to="paths.start">first run</RouterLink> leads to a first answer.
  </p>
  <FourStates what="what needs attention" :query="now" @retry="now.refetch()">
    <template v-if="now.data.value">
      <h2>Needs attention</h2>
      <NoticeList :notices="now.data.value.attention" />
      <h2>
        Yesterday by team
        <span v-if="day" class="second">{{ dayName(day) }}, UTC, in {{ now.data.value.currency }}</span>
        <RouterLink class="right" :to="{ path: paths.usage, query: { range: 'yesterday' } }">Account for it</RouterLink>
      </h2>
      <YesterdayTable :now="now.data.value" />
    </template>
  </FourStates>

  <LatestRequests />
</template>
