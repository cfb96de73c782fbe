<script setup lang="ts">
/** What needs attention, the worst first; each line ends in a verb that leads to its cause. */
import type { Schemas } from '@/api/client'
import { paths } from '@/lib/paths'
import StateWord from '@/ui/StateWord.vue'

defineProps<{ notices: readonly Schemas['NoticeLine'][] }>()

function cause(place: Schemas['PlaceLine']): string {
  if (place.kind === 'upstream' && place.name) return paths.upstream(place.name)
  if (place.kind === 'team' && place.name) return paths.team(place.name)
  if (place.kind === 'refusals') return paths.refusals
  if (place.kind === 'revisions') return paths.revisions
  return paths.now
}
</script>

<template>
  <p v-if="notices.length === 0" class="second py-2.5">Nothing needs attention.</p>
  <ul v-else>
    <li
      v-for="notice in notices"
      :key="`${notice.state} ${notice.subject} ${notice.says}`"
      class="notice border-rule grid gap-x-3.5 border-t py-2 first:border-t-0"
    >
      <StateWord :word="notice.state" />
      <span>
        <RouterLink v-if="notice.leads_to.kind !== 'service'" :to="cause(notice.leads_to)">{{
          notice.subject
        }}</RouterLink>
        <template v-else>{{ notice.subject }}</template>
        {{ notice.says }}
      </span>
      <RouterLink v-if="notice.leads_to.kind !== 'service'" class="verb" :to="cause(notice.leads_to)">{{
        notice.verb
      }}</RouterLink>
      <span class="why second">{{ notice.why }}</span>
    </li>
  </ul>
</template>
