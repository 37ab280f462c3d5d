<script setup lang="ts">
/** A state as a symbol, a word and a colour. */
import { computed } from 'vue'
import { lookOf } from '../words/states'

const props = defineProps<{ state: string; /** Another word than the state's own. */ word?: string }>()
const look = computed(() => lookOf(props.state))
</script>

<template>
  <span
    class="inline-flex items-center gap-1.5 rounded-sm px-1.5 py-0.5 text-xs font-medium whitespace-nowrap"
    :data-state="state"
    :style="{
      color: `var(--color-${look.tone})`,
      background: `color-mix(in oklab, var(--color-${look.tone}) 11%, transparent)`,
    }"
  >
    <span aria-hidden="true" class="w-3 text-center">{{ look.mark }}</span>
    {{ word ?? state.replace('-', ' ') }}
  </span>
</template>
