<script setup lang="ts">
/** What is signed in as me, and what could be: sessions and tokens, those that work first. */
import { computed } from 'vue'
import { useEndToken } from '@/api/changes'
import { useTokens } from '@/api/resources'
import { instant } from '@/lib/format'
import FourStates from '@/ui/FourStates.vue'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'

const SHOWN = 30
const tokens = useTokens()
const end = useEndToken()
const isOver = (token: { ended_at?: string | null; expires_at?: string | null }) =>
  token.ended_at != null || (token.expires_at != null && Date.parse(token.expires_at) < Date.now())
const lines = computed(() =>
  (tokens.data.value ?? [])
    .map((token) => ({ ...token, isOver: isOver(token) }))
    .sort((one, other) => Number(one.isOver) - Number(other.isOver))
    .slice(0, SHOWN),
)
</script>

<template>
  <section>
    <h2>Sessions and tokens</h2>
    <FourStates what="your tokens" :query="tokens" :is-empty="lines.length === 0" @retry="tokens.refetch()">
      <p class="second mb-2">
        Tokens for programs are issued in a terminal:
        <span class="mono">wendor token issue --label "nightly report"</span>
      </p>
      <p v-if="end.error.value" class="text-attention mb-2" role="alert">{{ end.error.value.message }}</p>
      <table>
        <thead>
          <tr>
            <th scope="col">token</th>
            <th scope="col">kind</th>
            <th scope="col">what it is for</th>
            <th scope="col">state</th>
            <th scope="col">issued</th>
            <th scope="col">works until</th>
            <th scope="col"><span class="sr-only">change</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="token in lines" :key="token.id">
            <th scope="row" class="mono">{{ token.id }}</th>
            <td>
              {{ token.kind === 'session' ? 'session' : token.unasked ? 'for programs, unasked' : 'for programs' }}
            </td>
            <td>{{ token.kind === 'session' ? `signed in with ${token.label}` : token.label }}</td>
            <td><StateWord :word="token.isOver ? 'over' : 'good'" quiet /></td>
            <td class="second"><TimeAgo :at="token.issued_at" /></td>
            <td class="second">
              <template v-if="token.ended_at">ended <TimeAgo :at="token.ended_at" /></template>
              <template v-else>{{ token.expires_at ? instant(new Date(token.expires_at)) : 'no expiry' }}</template>
            </td>
            <td class="num">
              <button v-if="!token.isOver" class="follow" @click="end.mutate(token.id)">End</button>
            </td>
          </tr>
        </tbody>
      </table>
    </FourStates>
  </section>
</template>
