<script setup lang="ts">
/** What a route adds to requests, and since when. From `/routes/{name}/preset/versions`. */
import { computed } from 'vue'
import { usePresetVersions } from '@/api/catalogue'
import { paths } from '@/lib/paths'
import FourStates from '@/ui/FourStates.vue'
import TimeAgo from '@/ui/TimeAgo.vue'

const props = defineProps<{ route: string }>()
const versions = usePresetVersions(() => props.route)
const now = computed(() => versions.data.value?.[0])
const instructions = computed(() => (now.value?.preset as { instructions?: string } | null | undefined)?.instructions)
</script>

<template>
  <h2>What it adds to requests <RouterLink class="right" :to="paths.editRoute(route)">Change or try it</RouterLink></h2>
  <FourStates
    what="what it adds"
    :query="versions"
    :is-empty="versions.data.value?.length === 0"
    @retry="versions.refetch()"
  >
    <template #empty>Nothing: requests go on as apps send them.</template>
    <p v-if="instructions" class="my-2 max-w-4xl whitespace-pre-wrap">{{ instructions }}</p>
    <p v-else-if="now && !now.adds" class="second py-2">Nothing since revision {{ now.revision }}.</p>
    <table>
      <thead>
        <tr>
          <th scope="col" class="num">revision</th>
          <th scope="col">adds</th>
          <th scope="col">since</th>
          <th scope="col">by</th>
          <th scope="col">why</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="version in versions.data.value" :key="version.revision">
          <td class="num">
            <RouterLink :to="paths.revisions">{{ version.revision }}</RouterLink>
          </td>
          <td>{{ version.adds ?? 'nothing' }}</td>
          <td><TimeAgo :at="version.made_at" /></td>
          <td>{{ version.made_by }}</td>
          <td class="second">{{ version.note }}</td>
        </tr>
      </tbody>
    </table>
  </FourStates>
</template>
