<script setup lang="ts">
/** The keys of a team: issue one, revoke one. */
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { useKeys } from '@/api/resources'
import { instant } from '@/lib/format'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import KeyIssueDialog from './KeyIssueDialog.vue'
import KeyRevokeDialog from './KeyRevokeDialog.vue'

const props = defineProps<{ team: Schemas['TeamLine'] }>()
const keys = useKeys(() => props.team.name)
const isIssuing = ref(false)
const revoking = ref<Schemas['KeyLine']>()
// Keys that work stand first.
const lines = computed(() =>
  [...(keys.data.value ?? [])].sort((a, b) => Number(b.state === 'good') - Number(a.state === 'good')),
)
</script>

<template>
  <section>
    <h2>Keys <button class="right follow" @click="isIssuing = true">Issue a key</button></h2>
    <FourStates what="the keys" :query="keys" :is-empty="lines.length === 0" @retry="keys.refetch()">
      <template #empty
        >No key yet. <button class="follow" @click="isIssuing = true">Issue one</button>; it is shown once, with a first
        request to copy.</template
      >
      <table>
        <thead>
          <tr>
            <th scope="col">key</th>
            <th scope="col">what it is for</th>
            <th scope="col">state</th>
            <th scope="col">routes</th>
            <th scope="col">lane</th>
            <th scope="col">issued</th>
            <th scope="col">works until</th>
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
