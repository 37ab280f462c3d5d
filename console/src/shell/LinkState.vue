<script setup lang="ts">
/** State of the live connection to the service; nearly invisible while it works. */
import { computed } from 'vue'
import { useLive } from '../live/useLive'
import { useNow } from '../ui/useNow'
import { span } from '../words/format'

const { link, since } = useLive()
const now = useNow()
const says = computed(() => {
  switch (link.value) {
    case 'connecting':
      return { mark: '◌', word: 'connecting', tone: 'faint' }
    case 'live':
      return { mark: '●', word: 'live', tone: 'done' }
    case 'catching-up':
      return { mark: '◐', word: 'catching up', tone: 'retrying' }
    case 'lost':
      return { mark: '▲', word: `no connection for ${span(Math.max(1000, now.value - since.value))}`, tone: 'failed' }
    case 'signed-out':
      return { mark: '✕', word: 'signed out', tone: 'failed' }
  }
  return { mark: '', word: '', tone: 'faint' }
})
</script>

<template>
  <span
    role="status"
    class="flex items-center gap-1.5 text-xs whitespace-nowrap"
    :data-link="link"
    :style="{ color: `var(--color-${says.tone})` }"
  >
    <span aria-hidden="true">{{ says.mark }}</span>{{ says.word }}
  </span>
</template>
