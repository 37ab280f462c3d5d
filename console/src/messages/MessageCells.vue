<script setup lang="ts">
/** The cells of one row: drawn anew only when the message changes, not when the row moves. */
import type { Message } from '../api/schema'
import { titleOf } from '../shell/useWorkspace'
import StateBadge from '../ui/StateBadge.vue'
import TimeText from '../ui/TimeText.vue'

defineProps<{ row: Message }>()
/** Why it is not done, or where it is. */
function why({ says, state, step, waits_for }: Message): string {
  if (says || state === 'done') return says
  if (waits_for) return `${step}: waits for ${titleOf('connections', waits_for)}`
  return state === 'waiting' ? `${step}: waits` : step
}
</script>

<template>
  <span role="cell"><StateBadge :state="row.state" /></span>
  <span role="cell" class="truncate font-medium">
    <RouterLink :to="`/messages/${row.id}`" class="hover:text-thread hover:underline">{{
      row.key || row.id
    }}</RouterLink>
  </span>
  <span role="cell" class="truncate">{{ row.result }}</span>
  <span role="cell" class="truncate text-soft">{{ titleOf('flows', row.flow) }}</span>
  <span role="cell" class="truncate text-soft">{{ titleOf('partners', row.partner) }}</span>
  <span role="cell" class="truncate text-soft" :title="why(row)">{{ why(row) }}</span>
  <span role="cell" class="text-soft"><TimeText :at="row.received" /></span>
</template>
