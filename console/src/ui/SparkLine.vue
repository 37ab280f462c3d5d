<script setup lang="ts">
/** A small line of values, without axes: the figures beside it and the table behind it are exact. */
import { computed } from 'vue'

const props = defineProps<{
  /** Oldest first; `null` where there is none. */
  values: (number | null)[]
  /** For a row of a list. */
  low?: boolean
}>()
const WIDTH = 120
const HEIGHT = 28
const most = computed(() => Math.max(1, ...props.values.map((value) => value ?? 0)))
const points = computed(() =>
  props.values.flatMap((value, n) =>
    value === null
      ? []
      : [
          `${((n / Math.max(1, props.values.length - 1)) * WIDTH).toFixed(1)},${(HEIGHT - 2 - (value / most.value) * (HEIGHT - 4)).toFixed(1)}`,
        ],
  ),
)
</script>

<template>
  <svg
    :viewBox="`0 0 ${WIDTH} ${HEIGHT}`"
    class="w-full text-thread"
    :class="low ? 'h-5' : 'h-7'"
    preserveAspectRatio="none"
    aria-hidden="true"
  >
    <polyline
      v-if="points.length > 1"
      :points="points.join(' ')"
      fill="none"
      stroke="currentColor"
      stroke-width="1.5"
      stroke-linejoin="round"
      vector-effect="non-scaling-stroke"
    />
  </svg>
</template>
