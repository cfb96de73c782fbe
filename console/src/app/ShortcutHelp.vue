<script setup lang="ts">
/** Which key does what. */
import { SHORTCUTS } from '@/lib/shortcuts'
import DialogBox from '@/ui/DialogBox.vue'

const emit = defineEmits<{ close: [] }>()
</script>

<template>
  <DialogBox open title="Keys" @close="emit('close')">
    <table>
      <tbody>
        <tr v-for="shortcut in SHORTCUTS" :key="shortcut.keys">
          <th scope="row">
            <kbd>{{ shortcut.keys }}</kbd>
          </th>
          <td>{{ shortcut.words }}</td>
        </tr>
      </tbody>
    </table>
    <p class="mt-4"><button class="button" @click="emit('close')">Close</button></p>
  </DialogBox>
</template>
