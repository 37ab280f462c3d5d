<script setup lang="ts">
/** A dialog in the middle of the page. Escape or a click outside closes it. */
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'

defineProps<{ open: boolean; title: string; /** As wide as documents need. */ wide?: boolean }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <Dialog :open="open" class="relative z-40" @close="$emit('close')">
    <div class="fixed inset-0 bg-shade" aria-hidden="true" />
    <div class="fixed inset-0 flex items-start justify-center overflow-y-auto p-6 pt-[8vh]">
      <DialogPanel
        class="w-full animate-appear rounded-lg border border-line bg-raised p-5 shadow-over"
        :class="wide ? 'max-w-5xl' : 'max-w-xl'"
      >
        <DialogTitle class="mb-3 text-lg font-semibold">{{ title }}</DialogTitle>
        <slot />
      </DialogPanel>
    </div>
  </Dialog>
</template>
