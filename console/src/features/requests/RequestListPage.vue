<script setup lang="ts">
/** Which requests were these? For whoever follows a figure to what it is made of, or watches them come. From `/requests`. */
import { computed, ref, watch } from 'vue'
import { useRequests } from '@/api/resources'
import { useAddress } from '@/ui/address'
import FourStates from '@/ui/FourStates.vue'
import PageHead from '@/ui/PageHead.vue'
import { isNarrowed, PAGE, queryOf } from './filters'
import RequestFilters from './RequestFilters.vue'
import RequestTable from './RequestTable.vue'

const address = useAddress()
const isLive = computed(() => address.read('live') === 'yes')
// A range that ends now ends when it was chosen; live lists have no end.
const chosenAt = ref(new Date())
watch([() => address.read('range'), isLive], () => (chosenAt.value = new Date()))
const query = computed(() => {
  const asked = queryOf(address.read, chosenAt.value)
  if (isLive.value) {
    delete asked.to
    delete asked.after
  }
  return asked
})
const page = useRequests(query, isLive)
const requests = computed(() => page.data.value?.requests ?? [])
</script>

<template>
  <PageHead title="Requests">
    <button class="follow" :aria-pressed="isLive" @click="address.set({ live: isLive ? '' : 'yes' })">
      {{ isLive ? 'Live: stop here' : 'Fixed: go live' }}
    </button>
  </PageHead>
  <RequestFilters />
  <FourStates what="the requests" :query="page" :is-empty="requests.length === 0" @retry="page.refetch()">
    <template #empty>
      <p v-if="isNarrowed(address.read)">No matching requests. Remove a filter, or choose a longer range.</p>
      <p v-else>
        No request has come yet. Issue a key on a team’s page; its first request comes with it, ready to copy.
      </p>
    </template>
    <RequestTable v-if="page.data.value" :requests="requests" :currency="page.data.value.currency" />
    <p class="mt-3 flex gap-5">
      <button v-if="address.read('after')" class="follow" @click="address.set({ after: '' })">Newest</button>
      <button
        v-if="page.data.value?.next && !isLive"
        class="follow"
        @click="address.set({ after: page.data.value.next ?? '' })"
      >
        Older, {{ PAGE }} more
      </button>
    </p>
  </FourStates>
</template>
