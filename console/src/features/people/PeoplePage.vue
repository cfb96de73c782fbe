<script setup lang="ts">
/** Who manages this, how do they sign in, and who should not any more? From `/people`. Owners change it, operators see it. */
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'
import { useMe, usePeople } from '@/api/resources'
import { instant } from '@/lib/format'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import ListNarrow from '@/ui/ListNarrow.vue'
import SortHead from '@/ui/SortHead.vue'
import { useList } from '@/ui/useList'
import { moveInList } from '@/ui/listKeys'
import PageHead from '@/ui/PageHead.vue'
import StateWord from '@/ui/StateWord.vue'
import TimeAgo from '@/ui/TimeAgo.vue'
import PersonAddDialog from './PersonAddDialog.vue'
import PersonDialog from './PersonDialog.vue'
import RuleSection from './RuleSection.vue'
import { opening, signInWords, stateOf } from './words'

const me = useMe()
const people = usePeople()
const isOwner = computed(() => me.data.value?.role === 'owner')
const isAdding = ref(false)
const changing = ref<Schemas['PersonLine']>()
const all = computed(() => people.data.value ?? [])
const { lines, order, narrow, isLong } = useList(
  () => all.value,
  {
    person: (one) => one.name,
    role: (one) => one.role,
    team: (one) => one.team,
    state: (one) => stateOf(one).word,
    added: (one) => one.added_at,
  },
  (one) => `${one.name} ${one.role} ${one.team ?? ''}`,
)
</script>

<template>
  <PageHead title="People">
    <button v-if="isOwner" class="follow" @click="isAdding = true">Add a person</button>
    <span v-else>owners add and change people</span>
  </PageHead>
  <FourStates what="the people" :query="people" :is-empty="all.length === 0" @retry="people.refetch()">
    <p class="mb-3">{{ opening(all) }}</p>
    <ListNarrow v-model="narrow" :shown="isLong" :count="lines.length" />
    <table @keydown="moveInList">
      <thead>
        <tr>
          <SortHead :order="order" column="person">person</SortHead>
          <SortHead :order="order" column="role">role</SortHead>
          <SortHead :order="order" column="team">team</SortHead>
          <SortHead :order="order" column="state">state</SortHead>
          <th scope="col">signs in with</th>
          <SortHead :order="order" column="added">added</SortHead>
          <th scope="col"><span class="sr-only">change</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="person in lines" :key="person.name">
          <th scope="row">
            <RouterLink :to="{ path: paths.audit, query: { by: person.name } }" title="What they did">{{
              person.name
            }}</RouterLink>
          </th>
          <td>{{ person.role }}</td>
          <td>
            <RouterLink v-if="person.team" :to="paths.team(person.team)">{{ person.team }}</RouterLink>
            <span v-else class="second">all</span>
          </td>
          <td><StateWord v-bind="stateOf(person)" quiet /></td>
          <td>
            {{ signInWords(person)
            }}<template v-if="person.one_time_until && !person.disabled_at"
              >, until {{ instant(new Date(person.one_time_until)) }}</template
            >
          </td>
          <td class="second"><TimeAgo :at="person.added_at" /></td>
          <td class="num">
            <button v-if="isOwner" class="follow" :aria-label="`Change ${person.name}`" @click="changing = person">
              Change
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </FourStates>
  <RuleSection :can-change="isOwner" />
  <PersonAddDialog v-if="isAdding" @close="isAdding = false" />
  <PersonDialog v-if="changing" :person="changing" @close="changing = undefined" />
</template>
