<script setup lang="ts">
/** The shell: the rail with the places, the page, the palette and the help of keys. */
import { computed, defineAsyncComponent, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useMe } from '@/api/resources'
import { SHORTCUTS } from '@/lib/shortcuts'
import { openDialogs, over } from '@/ui/dialogs'
import './confirming'
import AppRail from './AppRail.vue'
import { fault } from './faults'
import { placesFor } from './places'

// Neither is needed before someone presses a key.
const FindPalette = defineAsyncComponent(() => import('@/features/palette/FindPalette.vue'))
const GuessNotice = defineAsyncComponent(() => import('./GuessNotice.vue'))
const ShortcutHelp = defineAsyncComponent(() => import('./ShortcutHelp.vue'))

const router = useRouter()
const me = useMe()
const seesAllTeams = computed(() => !me.data.value?.team)
const places = computed(() => placesFor(seesAllTeams.value))
const pages = computed(() => places.value.flatMap((place) => place.pages))
const isFinding = ref(false)
const isHelping = ref(false)
let prefix = ''

function isTyping(target: EventTarget | null): boolean {
  return target instanceof HTMLElement && target.closest('input, select, textarea, [role="dialog"]') !== null
}

function onKey(event: KeyboardEvent) {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
    event.preventDefault()
    isFinding.value = true
    return
  }
  if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target)) return
  if (event.key === '?') isHelping.value = true
  const found = SHORTCUTS.find((shortcut) => shortcut.path !== undefined && shortcut.keys === `${prefix} ${event.key}`)
  prefix = event.key
  if (found?.path) void router.push(found.path)
}

onMounted(() => document.addEventListener('keydown', onKey))
onBeforeUnmount(() => document.removeEventListener('keydown', onKey))
</script>

<template>
  <div class="shell min-h-screen">
    <a href="#page" class="bg-sheet sr-only focus:not-sr-only focus:absolute focus:p-2">To the page</a>
    <AppRail :places="places" @find="isFinding = true" @help="isHelping = true" />
    <main id="page" class="page w-full px-4 pt-4.5 pb-10 lg:px-7.5">
      <p v-if="fault" class="text-attention mb-3" role="alert">
        This page failed: {{ fault }} <button class="underline" @click="fault = undefined">Dismiss</button>
      </p>
      <GuessNotice v-if="me.data.value?.wrong_before" :me="me.data.value" />
      <RouterView v-slot="{ Component, route }">
        <component :is="Component" :key="route.path" />
      </RouterView>
    </main>
    <FindPalette v-if="isFinding" :pages="pages" :sees-all-teams="seesAllTeams" @close="isFinding = false" />
    <ShortcutHelp v-if="isHelping" @close="isHelping = false" />
    <component :is="over" v-if="over && openDialogs === 0" />
  </div>
</template>
