<script setup lang="ts">
/** Opens every page, team, route, upstream and request by name or id. */
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useRoutes, useTeams, useUpstreams } from '@/api/resources'
import { paths } from '@/lib/paths'
import PaletteBox, { type PaletteItem } from '@/ui/PaletteBox.vue'
import { found, requestOf } from './matching'

const props = defineProps<{ pages: readonly { title: string; path: string }[]; seesAllTeams: boolean }>()
const emit = defineEmits<{ close: [] }>()

const router = useRouter()
const typed = ref('')
const teams = useTeams()
const routes = useRoutes()
const upstreams = useUpstreams(() => props.seesAllTeams)

function items(kind: string, names: readonly string[], path: (name: string) => string): PaletteItem[] {
  return names.map((name) => ({ id: `${kind} ${name}`, kind, words: name, path: path(name) }))
}

const all = computed<PaletteItem[]>(() => [
  ...props.pages.map((page) => ({ id: `page ${page.path}`, kind: 'page', words: page.title, path: page.path })),
  ...items(
    'team',
    (teams.data.value ?? []).map((team) => team.name),
    paths.team,
  ),
  ...items(
    'route',
    (routes.data.value ?? []).map((route) => route.name),
    paths.route,
  ),
  ...items(
    'upstream',
    (upstreams.data.value ?? []).map((upstream) => upstream.name),
    paths.upstream,
  ),
])
const shown = computed<PaletteItem[]>(() => {
  const id = requestOf(typed.value)
  const request = id ? [{ id: `request ${id}`, kind: 'request', words: id, path: paths.request(id) }] : []
  return [...request, ...found(all.value, typed.value)]
})

function open(item: PaletteItem) {
  emit('close')
  void router.push(item.path)
}
</script>

<template>
  <PaletteBox
    v-model="typed"
    :items="shown"
    hint="A page, team, route, upstream, or a request’s id"
    nothing="No match. A request is found by its whole id."
    @close="emit('close')"
    @choose="open"
  />
</template>
