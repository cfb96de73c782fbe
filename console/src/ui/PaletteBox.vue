<script setup lang="ts">
/** A field with what it finds below it: arrows choose, Enter opens, Escape closes. */
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Dialog, DialogPanel } from '@headlessui/vue'

export interface PaletteItem {
  id: string
  kind: string
  words: string
  path: string
}

defineProps<{ items: readonly PaletteItem[]; hint: string; nothing: string }>()
const emit = defineEmits<{ close: []; choose: [item: PaletteItem] }>()
const typed = defineModel<string>({ required: true })
</script>

<template>
  <Dialog open class="relative z-10" aria-label="Find" @close="emit('close')">
    <div class="bg-shade fixed inset-0" aria-hidden="true" />
    <div class="fixed inset-0 overflow-y-auto px-4 py-16">
      <DialogPanel class="bg-sheet border-rule-strong mx-auto max-w-xl rounded border shadow-xl">
        <Combobox nullable @update:model-value="(item) => item && emit('choose', item)">
          <ComboboxInput
            class="text-lead w-full bg-transparent px-4 py-3"
            :aria-label="hint"
            :placeholder="hint"
            autocomplete="off"
            @change="typed = $event.target.value"
            @keydown.esc.capture="emit('close')"
          />
          <ComboboxOptions static class="border-rule max-h-96 overflow-y-auto border-t py-1.5">
            <ComboboxOption v-for="item in items" :key="item.id" v-slot="{ active }" :value="item">
              <div class="flex items-baseline justify-between px-4 py-1" :class="{ 'bg-accent-soft': active }">
                <span>{{ item.words }}</span>
                <span class="second text-small">{{ item.kind }}</span>
              </div>
            </ComboboxOption>
          </ComboboxOptions>
          <p v-if="items.length === 0" class="second px-4 pb-3">{{ nothing }}</p>
        </Combobox>
      </DialogPanel>
    </div>
  </Dialog>
</template>
