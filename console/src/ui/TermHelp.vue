<script setup lang="ts">
/** A term with its explanation from the glossary. */
import { Popover, PopoverButton, PopoverPanel } from '@headlessui/vue'
import { glossary, type Term } from '../words/glossary'

defineProps<{ term: Term; /** Instead of the term itself. */ word?: string }>()
</script>

<template>
  <Popover as="span" class="relative inline-block">
    <PopoverButton
      class="underline decoration-dotted decoration-1 underline-offset-4 decoration-faint hover:decoration-thread"
      :aria-label="`${word ?? term}: what does it mean?`"
      >{{ word ?? term }}</PopoverButton
    >
    <PopoverPanel
      class="absolute left-0 z-30 mt-1 w-72 animate-appear rounded-md border border-line bg-raised p-3 text-left text-sm font-normal tracking-normal text-soft normal-case shadow-over"
      >{{ glossary[term] }}</PopoverPanel
    >
  </Popover>
</template>
