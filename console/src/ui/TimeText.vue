<script setup lang="ts">
/** A time in the local zone; the exact UTC time on hover. */
import { computed } from 'vue'
import { clock, distance, exact } from '../words/format'
import { useNow } from './useNow'

const props = defineProps<{
  /** RFC 3339. */
  at: string
  /** `clock` 14:03:22, `distance` "3 min ago". */
  as?: 'clock' | 'distance'
}>()
const now = useNow()
const text = computed(() => {
  const at = new Date(props.at)
  return props.as === 'distance' ? distance(at.getTime(), now.value) : clock(at, new Date(now.value))
})
</script>

<template>
  <time :datetime="at" :title="exact(at)" class="whitespace-nowrap">{{ text }}</time>
</template>
