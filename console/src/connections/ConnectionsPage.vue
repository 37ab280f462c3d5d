<script setup lang="ts">
/** Connections: state, flows that use each, and acts. */
import { EventKind, MessageState } from '../api/schema'
import { nextTick, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, asked } from '../api/client'
import { useAsked, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import EmptyState from '../ui/EmptyState.vue'
import TermHelp from '../ui/TermHelp.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import ConnectionCard from './ConnectionCard.vue'

const route = useRoute()
const {
  known: connections,
  trouble,
  again,
} = useAsked(
  (signal) => asked(api.GET('/api/connections', { signal })),
  () => ['connections'],
)
const soon = useThrottled(() => void again(), 1000)
useLive({
  pulse: ({ changes }) => {
    // The number of waiting messages changes with the messages.
    if (changes.some((change) => change.kind === EventKind.hold || change.state === MessageState.waiting)) soon()
    else if (connections.value?.some((one) => one.on_hold) && changes.length) soon()
  },
  anew: soon,
})
onMounted(again)
// The contents of queues change without any message here.
useEvery(3000, () => connections.value?.some((one) => one.queues.length) && again())

const marked = ref('')
watch(
  () => [route.hash, !!connections.value] as const,
  async ([hash, known]) => {
    marked.value = hash.slice(1)
    if (!known || !hash) return
    await nextTick()
    document.getElementById(hash.slice(1))?.scrollIntoView({ block: 'center' })
  },
  { immediate: true },
)
</script>

<template>
  <div>
    <header class="mb-4 flex flex-wrap items-baseline gap-x-3">
      <h1 class="text-xl font-semibold">Connections</h1>
      <p class="text-sm text-soft">
        Outside systems. A connection that stops responding is put <TermHelp term="on_hold" word="on hold" /> and probed
        periodically.
      </p>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <div class="gap-4 lg:columns-2 2xl:columns-3">
      <ConnectionCard
        v-for="connection in connections"
        :id="connection.name"
        :key="connection.name"
        :connection="connection"
        class="mb-4 break-inside-avoid"
        :marked="marked === connection.name"
        @changed="again"
      />
    </div>
    <EmptyState v-if="connections && !connections.length" title="No connections yet">
      A connection is a file in the workspace’s folder <code>connections</code>: an address or a folder, with
      credentials and limits.
    </EmptyState>
  </div>
</template>
