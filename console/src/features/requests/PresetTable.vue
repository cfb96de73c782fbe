<script setup lang="ts">
/** What the preset of its route added to a request, part by part. */
import type { Schemas } from '@/api/client'

defineProps<{ shown: Schemas['RequestShown'] }>()
const FATES: Record<string, string> = {
  added: 'added',
  'own-kept': 'the request said its own',
  'own-replaced': 'fixed by the route; the request said otherwise',
  unsaid: 'for offers of other dialects alone',
  'left-out': 'no place for it in such a request',
}
</script>

<template>
  <section>
    <h2>
      What the route added <span class="second">at revision {{ shown.request.revision }}</span>
    </h2>
    <table>
      <thead class="sr-only">
        <tr>
          <th scope="col">part</th>
          <th scope="col">value</th>
          <th scope="col">what became of it</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in shown.preset" :key="line.part">
          <th scope="row">{{ line.part.replaceAll('_', ' ') }}</th>
          <td>{{ line.value }}</td>
          <td class="second">{{ FATES[line.fate] ?? line.fate }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="shown.variables.length" class="second py-2">
      The request filled {{ shown.variables.join(', ') }}; the values are not kept.
    </p>
  </section>
</template>
