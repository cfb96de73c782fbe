<script setup lang="ts">
/** The keys of a team: issue one, revoke one. */
import { ref } from 'vue'
import type { Schemas } from '@/api/client'
import { useKeys } from '@/api/resources'
import { instant } from '@/lib/format'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import ListNarrow from '@/ui/ListNarrow.vue'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'
import { moveInList } from '@/ui/listKeys'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import KeyIssueDialog from './KeyIssueDialog.vue'
import KeyRevokeDialog from './KeyRevokeDialog.vue'

const props = defineProps<{ team: Schemas['TeamLine'] }>()
const keys = useKeys(() => props.team.name)
const isIssuing = ref(false)
const revoking = ref<Schemas['KeyLine']>()
// Keys that work stand first.
const { lines, order, narrow, isLong } = useList(
  () => [...(keys.data.value ?? [])].sort((a, b) => Number(b.state === 'good') - Number(a.state === 'good')),
  {
    key: (key) => key.id,
    label: (key) => key.label,
    state: (key) => key.state,
    issued: (key) => key.issued_at,
    until: (key) => key.expires_at,
  },
  (key) => `${key.id} ${key.label} ${key.state} ${key.issued_by}`,
)
</script>

<template>
  <section>
    <h2>Keys <button class="right follow" @click="isIssuing = true">Issue a key</button></h2>
    <FourStates what="the keys" :query="keys" :is-empty="keys.data.value?.length === 0" @retry="keys.refetch()">
      <template #empty
        >No key yet. <button class="follow" @click="isIssuing = true">Issue one</button>; it is shown once, with a first
        request to copy.</template
      >
      <ListNarrow v-model="narrow" :shown="isLong" :count="lines.length" />
      <table @keydown="moveInList">
        <thead>
          <tr>
            <SortHead :order="order" column="key">key</SortHead>
            <SortHead :order="order" column="label">what it is for</SortHead>
            <SortHead :order="order" column="state">state</SortHead>
            <th scope="col">routes</th>
            <th scope="col">lane</th>
            <SortHead :order="order" column="issued">issued</SortHead>
            <SortHead :order="order" column="until">works until</SortHead>
            <th scope="col"><span class="sr-only">change</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="key in lines" :key="key.id">
            <th scope="row" class="mono">
              <RouterLink :to="{ path: paths.requests, query: { key: key.id } }">{{ key.id }}</RouterLink>
            </th>
            <td>{{ key.label }}</td>
            <td><StateWord :word="key.state" :quiet="key.state === 'good'" /></td>
            <td>{{ key.routes?.join(', ') ?? 'all of its team' }}</td>
            <td class="second">{{ key.lane }}</td>
            <td class="second"><TimeAgo :at="key.issued_at" /> by {{ key.issued_by }}</td>
            <td class="second">{{ key.expires_at ? instant(new Date(key.expires_at)) : 'no expiry' }}</td>
            <td class="num">
              <button v-if="key.state === 'good'" class="follow" @click="revoking = key">Revoke</button>
            </td>
          </tr>
        </tbody>
      </table>
    </FourStates>
    <KeyIssueDialog v-if="isIssuing" :team="team" @close="isIssuing = false" />
    <KeyRevokeDialog v-if="revoking" :held="revoking" @close="revoking = undefined" />
  </section>
</template>
