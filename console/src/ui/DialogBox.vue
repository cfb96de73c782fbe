<script setup lang="ts">
/** A dialogue over the page: closes with Escape, keeps the focus inside and gives it back. */
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { onBeforeUnmount } from 'vue'
import { openDialogs, over as question } from './dialogs'

/** `over`: what is asked over all others, which is not one of those that lie below. */
const props = defineProps<{ open: boolean; title: string; wide?: boolean; over?: boolean }>()
const emit = defineEmits<{ close: [] }>()
const depth = props.over ? Infinity : ++openDialogs.value
onBeforeUnmount(() => (props.over ? undefined : openDialogs.value--))
</script>

<template>
  <Dialog :open="open" :class="over ? 'z-20' : 'z-10'" class="relative" @close="emit('close')">
    <div class="bg-shade fixed inset-0" aria-hidden="true" />
    <div class="fixed inset-0 overflow-y-auto px-4 py-12">
      <DialogPanel
        class="bg-sheet border-rule-strong mx-auto rounded border px-6 py-5 shadow-xl"
        :class="wide ? 'max-w-3xl' : 'max-w-xl'"
      >
        <DialogTitle class="text-title mt-0 mb-3 border-0 pb-0 font-semibold">{{ title }}</DialogTitle>
        <slot />
        <component :is="question" v-if="question && openDialogs === depth" />
      </DialogPanel>
    </div>
  </Dialog>
</template>
