<script setup lang="ts">
import ModalDialog from '../ui/ModalDialog.vue'
import { shortcuts } from './shortcuts'

defineProps<{ open: boolean }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <ModalDialog :open="open" title="Keys" @close="$emit('close')">
    <dl class="grid grid-cols-[max-content_1fr] gap-x-6 gap-y-2 text-sm">
      <template v-for="{ keys, says } in shortcuts" :key="keys">
        <dt class="flex gap-1">
          <kbd
            v-for="key in keys.split(' ')"
            :key="key"
            class="rounded-sm border border-line-strong px-1.5 font-mono text-xs leading-5"
            >{{ key }}</kbd
          >
        </dt>
        <dd>{{ says }}</dd>
      </template>
    </dl>
    <p class="mt-4 text-sm text-soft">
      Tab and Enter reach everything else. In lists, arrow keys move and Enter opens.
    </p>
    <button type="button" class="button mt-4" @click="$emit('close')">Close</button>
  </ModalDialog>
</template>
