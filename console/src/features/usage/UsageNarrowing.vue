<script setup lang="ts">
/** What the figures are narrowed to; the team is chosen, the others come from links and are taken out again. */
import { computed } from 'vue'
import { useAddress } from '@/ui/address'
import FilterChoice from '@/ui/FilterChoice.vue'

const props = defineProps<{ names: readonly string[]; teams: readonly string[] }>()
const address = useAddress()
const team = address.member('team')
const options = computed(() => props.teams.map((value) => ({ value, words: value })))
const others = computed(() => props.names.filter((name) => name !== 'team' && address.read(name) !== ''))
</script>

<template>
  <FilterChoice v-model="team" label="Team" :options="options" any="all" />
  <span v-for="name in others" :key="name" class="text-small">
    <span class="second">{{ name }}</span> {{ address.read(name) }}
    <button class="follow" @click="address.set({ [name]: '' })">all</button>
  </span>
</template>
