<script setup lang="ts">
/** What changes, thing by thing, with its values before and after; what that means; and the same as lines of the file. */
import { ref } from 'vue'
import type { Schemas } from '@/api/client'

defineProps<{ difference: Schemas['CatalogueDifference'] }>()
const isAsFile = ref(false)
const WORDS: Record<string, string> = { added: 'comes', removed: 'goes', changed: 'changes' }
const side = (value: string | null | undefined) => value ?? 'absent'
const lineClass = (line: string) =>
  line.startsWith('+') ? 'font-semibold' : line.startsWith('-') ? 'second line-through' : 'second'
</script>

<template>
  <ul v-if="difference.consequences?.length" class="mb-2">
    <li v-for="sentence in difference.consequences" :key="sentence" class="text-caution">
      <span aria-hidden="true">△</span> {{ sentence }}
    </li>
  </ul>
  <p v-if="difference.changes.length === 0" class="second">Nothing changes.</p>
  <template v-else>
    <pre v-if="isAsFile" class="bg-well overflow-x-auto p-2.5"><code><template
      v-for="(line, index) in (difference.file_difference ?? '').split('\n')" :key="index"
    ><span :class="lineClass(line)">{{ line }}
</span></template></code></pre>
    <table v-else>
      <thead>
        <tr>
          <th scope="col">what</th>
          <th scope="col">value</th>
          <th scope="col">before</th>
          <th scope="col">after</th>
        </tr>
      </thead>
      <tbody v-for="change in difference.changes" :key="change.thing">
        <tr v-for="(field, index) in change.fields.length ? change.fields : [undefined]" :key="index">
          <th v-if="index === 0" scope="row">{{ change.thing }} {{ WORDS[change.kind] }}</th>
          <td v-else></td>
          <td class="wrap-anywhere">{{ field?.field }}</td>
          <td class="second wrap-anywhere">{{ field ? side(field.before) : '' }}</td>
          <td class="wrap-anywhere">{{ field ? side(field.after) : '' }}</td>
        </tr>
      </tbody>
    </table>
    <p class="mt-1.5">
      <button class="button quiet" :aria-pressed="isAsFile" @click="isAsFile = !isAsFile">
        {{ isAsFile ? 'As values' : 'As lines of the file' }}
      </button>
    </p>
  </template>
</template>
