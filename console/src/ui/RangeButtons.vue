<script setup lang="ts">
/** Chooses the range of figures. */
import { FigureRange } from '../api/schema'

const range = defineModel<FigureRange>({ required: true })
const ranges = [
  { value: FigureRange.Value15m, text: '15 min' },
  { value: FigureRange.Value1h, text: '1 h' },
  { value: FigureRange.Value24h, text: '24 h' },
]
</script>

<template>
  <div role="group" aria-label="Range" class="flex rounded-md border border-line p-0.5 whitespace-nowrap">
    <button
      v-for="one in ranges"
      :key="one.value"
      type="button"
      class="rounded-sm px-2 py-0.5 text-xs text-soft"
      :class="range === one.value && 'bg-sunken font-semibold text-ink!'"
      :aria-pressed="range === one.value"
      @click="range = one.value"
    >
      {{ one.text }}
    </button>
  </div>
</template>
