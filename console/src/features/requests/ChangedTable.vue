<script setup lang="ts">
/** What was changed of a request on its way to the upstream. */
import type { Schemas } from '@/api/client'

defineProps<{ changes: readonly Schemas['ChangedLine'][] }>()
</script>

<template>
  <section>
    <h2>Changed on the way</h2>
    <p v-if="changes.length === 0" class="second py-2">Nothing: the request was passed on unchanged.</p>
    <table v-else>
      <thead class="sr-only">
        <tr>
          <th scope="col">member</th>
          <th scope="col">from the app</th>
          <th scope="col">to the upstream</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="change in changes" :key="change.member">
          <th scope="row" class="mono">{{ change.member }}</th>
          <td class="mono second">{{ change.before }}</td>
          <td class="mono">{{ change.after }}</td>
        </tr>
      </tbody>
    </table>
  </section>
</template>
