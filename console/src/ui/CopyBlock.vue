<script setup lang="ts">
/** Text to take along, with a button that copies it. */
import { ref } from 'vue'

const props = defineProps<{ text: string; what: string }>()
const state = ref<'idle' | 'copied' | 'refused'>('idle')

async function copy() {
  try {
    await navigator.clipboard.writeText(props.text)
    state.value = 'copied'
  } catch {
    state.value = 'refused'
  }
}
</script>

<template>
  <div class="bg-well flex items-start gap-3 px-3 py-2">
    <pre class="mono grow break-all whitespace-pre-wrap" tabindex="0" :aria-label="what">{{ text }}</pre>
    <button class="follow text-small shrink-0" @click="copy">
      {{ state === 'copied' ? 'Copied' : `Copy ${what}` }}
    </button>
  </div>
  <p v-if="state === 'refused'" class="text-caution text-small" role="status">
    The browser does not allow copying here: select the text and copy it.
  </p>
</template>
