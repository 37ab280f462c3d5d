<script setup lang="ts">
/** All outside systems in one line: those on hold by name, first; then the others. */
import { computed } from 'vue'
import type { ConnectionView } from '../api/schema'
import { count } from '../words/format'

const props = defineProps<{ connections: ConnectionView[] }>()
const held = computed(() => props.connections.filter((one) => one.on_hold))
const others = computed(() => props.connections.filter((one) => !one.on_hold))
</script>

<template>
  <p v-if="connections.length" class="flex items-baseline gap-x-3 text-sm" data-part="systems">
    <span class="heading w-20 shrink-0">Systems</span>
    <span class="flex min-w-0 flex-wrap gap-x-4 gap-y-0.5">
      <span v-for="one in held" :key="one.name" class="text-waiting">
        <span aria-hidden="true">Ⅱ </span
        ><RouterLink :to="`/connections#${one.name}`" class="font-medium hover:underline">{{ one.title }}</RouterLink>
        on hold<template v-if="one.on_hold?.waiting"
          >, {{ count(one.on_hold.waiting, 'message waits', 'messages wait') }}</template
        >
      </span>
      <span v-for="one in others" :key="one.name" class="text-soft">
        <span aria-hidden="true" class="text-done">● </span
        ><RouterLink :to="`/connections#${one.name}`" class="hover:text-thread hover:underline">{{
          one.title
        }}</RouterLink
        ><span class="sr-only"> in use</span>
      </span>
    </span>
  </p>
</template>
