<script setup lang="ts">
/** A text in which what stands between backticks is code. */
import { computed } from 'vue'

const props = defineProps<{ text: string }>()
const parts = computed(() => props.text.split('`').map((words, index) => ({ words, index, isCode: index % 2 === 1 })))
</script>

<template>
  <template v-for="part in parts" :key="part.index"
    ><code v-if="part.isCode" class="mono">{{ part.words }}</code
    ><template v-else>{{ part.words }}</template></template
  >
</template>
