<script setup lang="ts">
/** The rail: places as words, the open one unfolded; at its foot how the service is, who is signed in, and how it all looks. */
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useSignOut } from '@/api/changes'
import { useMe, useNow, useService } from '@/api/resources'
import { grouped } from '@/lib/format'
import { paths } from '@/lib/paths'
import WendorMark from '@/ui/WendorMark.vue'
import LooksChoice from './LooksChoice.vue'
import { isAt, type Place } from './places'

defineProps<{ places: readonly Place[] }>()
const emit = defineEmits<{ find: []; help: [] }>()

const route = useRoute()
const router = useRouter()
const me = useMe()
const service = useService()
const now = useNow()
const signOut = useSignOut()
const needing = computed(() => now.data.value?.attention.length ?? 0)
const state = computed(() => {
  const line = service.data.value
  if (service.isError.value || !line) return service.isError.value ? 'Wendor does not answer' : ''
  const spool = line.pending === 0 ? 'spool empty' : `${grouped(line.pending)} in the spool`
  return `${spool}, database ${line.database_reachable ? 'well' : 'away'}`
})
const isOpen = (place: Place) => place.pages.some((page) => isAt(page, route.path))

async function leave() {
  await signOut.mutateAsync()
  await router.push(paths.signIn)
}
</script>

<template>
  <nav
    aria-label="Places"
    class="rail border-rule flex flex-wrap gap-x-4 gap-y-0.5 border-b px-5 py-3.5 lg:flex-col lg:border-r lg:border-b-0 lg:pt-4.5 lg:pr-0"
  >
    <RouterLink
      :to="paths.now"
      class="text-ink mb-4 flex items-center gap-2 text-lead font-semibold hover:no-underline"
    >
      <WendorMark />Wendor
    </RouterLink>
    <template v-for="place in places" :key="place.name">
      <RouterLink
        :to="place.pages[0]?.path ?? paths.now"
        class="text-ink flex justify-between py-1 pr-2.5"
        :class="{ 'border-accent font-semibold lg:border-r-2': isOpen(place) }"
        :aria-current="isOpen(place) && place.pages.length === 1 ? 'page' : undefined"
      >
        {{ place.name }}
        <span v-if="place.name === 'Now' && needing > 0" class="text-small text-caution font-semibold">
          {{ needing }}<span class="sr-only"> need attention</span>
        </span>
      </RouterLink>
      <template v-if="isOpen(place) && place.name !== 'Now'">
        <RouterLink
          v-for="page in place.pages"
          :key="page.path"
          :to="page.path"
          class="py-0.5 lg:pl-3"
          :class="isAt(page, route.path) ? 'text-accent font-medium' : 'text-ink-2'"
          :aria-current="isAt(page, route.path) ? 'page' : undefined"
        >
          {{ page.title }}
        </RouterLink>
      </template>
    </template>
    <div
      class="second text-small flex w-full flex-wrap items-baseline gap-x-4 leading-relaxed lg:mt-auto lg:block lg:pr-3"
    >
      <p v-if="service.data.value">revision {{ service.data.value.revision }}</p>
      <p
        class="lg:mb-3"
        :class="{ 'text-attention': service.isError.value || service.data.value?.database_reachable === false }"
      >
        {{ state }}
      </p>
      <LooksChoice />
      <p class="lg:mt-3">
        <button class="follow" @click="emit('find')">Find</button> <kbd>Ctrl K</kbd> ·
        <button class="follow" @click="emit('help')">Keys</button>
      </p>
      <p v-if="me.data.value" class="lg:mt-3">
        <RouterLink :to="paths.you">{{ me.data.value.name }}</RouterLink>, {{ me.data.value.role
        }}{{ me.data.value.team ? ` of ${me.data.value.team}` : '' }}<br class="max-lg:hidden" />{{ ' ' }}
        <button class="follow" @click="leave">Sign out</button>
      </p>
    </div>
  </nav>
</template>
