<script setup lang="ts">
/** The cells of one row. They are drawn again only when the message changes, not when the row moves. */
import type { Message } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import StateBadge from '../ui/StateBadge.vue'
import TimeText from '../ui/TimeText.vue'
import { whyOf } from './whyOf'

defineProps<{ row: Message; reasons?: boolean }>()
</script>

<template>
  <span role="cell"><StateBadge :state="row.state" /></span>
  <span role="cell" class="truncate font-medium">
    <RouterLink :to="`/messages/${row.id}`" class="hover:text-thread hover:underline">{{
      row.key || row.id
    }}</RouterLink>
  </span>
  <span v-if="reasons" role="cell" class="line-clamp-2" :title="whyOf(row)">{{ whyOf(row) }}</span>
  <span v-else role="cell" class="truncate">{{ row.result }}</span>
  <span role="cell" class="truncate text-soft">{{ titleOf('flows', row.flow) }}</span>
  <span role="cell" class="truncate text-soft">{{ titleOf('partners', row.partner) }}</span>
  <span v-if="!reasons" role="cell" class="truncate text-soft" :title="whyOf(row)">{{ whyOf(row) }}</span>
  <span role="cell" class="text-soft"><TimeText :at="row.received" /></span>
</template>
