<script setup lang="ts">
/** Everything that happened to an order, in one line of time: documents, milestones, acknowledgments and people. */
import { MilestoneMark, OrderEventKind } from '../api/schema'
import type { OrderEvent } from '../api/schema'
import TimeText from '../ui/TimeText.vue'

defineProps<{ events: OrderEvent[] }>()
const looks: Record<OrderEventKind, { mark: string; word: string; tone: string }> = {
  arrived: { mark: '↓', word: 'arrived', tone: 'thread' },
  milestone: { mark: '●', word: 'milestone', tone: 'done' },
  acknowledged: { mark: '↑', word: 'sent', tone: 'thread' },
  act: { mark: '✎', word: 'by a person', tone: 'waiting' },
}
const trouble = { mark: '▲', word: 'milestone in trouble', tone: 'failed' }
const look = (event: OrderEvent) => (event.mark === MilestoneMark.trouble ? trouble : looks[event.kind])
const to = (event: OrderEvent) =>
  event.kind === OrderEventKind.arrived && event.arrival
    ? `/arrivals/${event.arrival}`
    : event.message
      ? `/messages/${event.message}`
      : undefined
</script>

<template>
  <ol class="text-sm" data-part="events">
    <li v-for="(event, n) in events" :key="n" class="flex items-baseline gap-3 py-1" :data-event="event.kind">
      <span class="w-32 shrink-0 text-faint"><TimeText :at="event.at" /></span>
      <span
        aria-hidden="true"
        class="w-4 shrink-0 text-center"
        :style="{ color: `var(--color-${look(event).tone})` }"
        >{{ look(event).mark }}</span
      >
      <span class="min-w-0">
        <span class="sr-only">{{ look(event).word }}: </span>
        <RouterLink v-if="to(event)" :to="to(event)!" class="hover:text-thread hover:underline">{{
          event.says
        }}</RouterLink>
        <template v-else>{{ event.says }}</template>
        <span v-if="event.by" class="text-soft"> by {{ event.by }}</span>
      </span>
    </li>
  </ol>
</template>
