<script setup lang="ts">
/** Ready code that asks a route, and a file of variables for an app. The key never stands in it. */
import { computed, ref } from 'vue'
import { useRouteCode } from '@/api/connecting'
import CopyBlock from '@/ui/CopyBlock.vue'
import FilterChoice from '@/ui/FilterChoice.vue'
import FourStates from '@/ui/FourStates.vue'

const props = defineProps<{ route: string }>()
const code = useRouteCode(() => props.route)
const language = ref('shell')
const way = ref('streamed')
const LANGUAGES = [
  { value: 'shell', words: 'shell' },
  { value: 'python', words: 'Python' },
  { value: 'javascript', words: 'JavaScript' },
]
const WAYS = [
  { value: 'streamed', words: 'piece by piece' },
  { value: 'whole', words: 'in one piece' },
]
const shown = computed(() =>
  code.data.value?.code.find((one) => one.language === language.value && one.way === way.value),
)
const envFile = computed(() => `data:text/plain;charset=utf-8,${encodeURIComponent(code.data.value?.env_file ?? '')}`)
</script>

<template>
  <section aria-label="From an app">
    <h2>From an app <a class="right" :href="envFile" :download="`${route}.env`">Its variables as a file</a></h2>
    <FourStates what="the code" :query="code" @retry="code.refetch()">
      <p class="my-2 flex flex-wrap gap-6">
        <FilterChoice v-model="language" label="In" :options="LANGUAGES" />
        <FilterChoice v-model="way" label="The answer comes" :options="WAYS" />
        <span class="second text-small">The key is taken from {{ code.data.value?.key_variable }}.</span>
      </p>
      <CopyBlock v-if="shown" :text="shown.text" what="the code" />
    </FourStates>
  </section>
</template>
