<script setup lang="ts">
/** The cells of one row. They are drawn again only when the message changes, not when the row moves. */
import type { Message } from '../api/schema'
import StateBadge from '../ui/StateBadge.vue'
import TimeText from '../ui/TimeText.vue'
import type { Column } from './columns'

defineProps<{ row: Message; columns: Column[]; /** The reason is the point of the list. */ failures?: boolean }>()
</script>

<template>
  <span role="cell"><StateBadge :state="row.state" /></span>
  <span role="cell" class="truncate font-medium">
    <RouterLink :to="`/messages/${row.id}`" class="hover:text-thread hover:underline">{{
      row.key || row.id
    }}</RouterLink>
  </span>
  <span
    v-for="{ key, text } in columns"
    :key="key"
    role="cell"
    :class="[failures && key === 'why' ? 'line-clamp-2' : 'truncate', !['why', 'result'].includes(key) && 'text-soft']"
    :title="key === 'why' ? text(row) : undefined"
  >
    <TimeText v-if="key === 'received' || key === 'changed'" :at="text(row)" />
    <template v-else>{{ text(row) }}</template>
  </span>
</template>
