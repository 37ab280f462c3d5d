<script setup lang="ts">
/** The first page: concerns on top, then every flow as a line of its steps. */
import { computed, onBeforeUnmount, onMounted, ref, shallowRef } from 'vue'
import { api, asked } from '../api/client'
import type { Pulse, Overview } from '../api/schema'
import { useAsked, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import EmptyState from '../ui/EmptyState.vue'
import TermHelp from '../ui/TermHelp.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import ConcernList from './ConcernList.vue'
import FigureRow from './FigureRow.vue'
import { moves, rank, reduceOverview } from './reduceOverview'
import FlowLine from './FlowLine.vue'
import RecentActs from './RecentActs.vue'
import SystemsLine from './SystemsLine.vue'
import { concerns, glance } from './concerns'

useWorkspace()
const overview = shallowRef<Overview>()
const drawn = ref<InstanceType<typeof FlowLine>[]>([])
const { trouble, again } = useAsked(async () => {
  overview.value = reduceOverview(overview.value, { kind: 'loaded', lines: await asked(api.GET('/api/overview')) })
})
const soon = useThrottled(() => void again(), 1000)
const { link } = useLive({ pulse: onPulse, anew: soon })

function onPulse(pulse: Pulse) {
  overview.value = reduceOverview(overview.value, { kind: 'pulse', pulse })
  drawn.value.forEach((line) => line.show(pulse.changes))
  if (moves(pulse)) soon()
}

// The counts of the last minute must also fall when no pulse arrives.
const timer = setInterval(() => document.visibilityState === 'visible' && soon(), 5000)
onMounted(again)
onBeforeUnmount(() => clearInterval(timer))

const found = computed(() => (overview.value ? concerns(overview.value, titleOf) : []))
const stale = computed(() => link.value === 'lost' || link.value === 'signed-out')
/** Flows with trouble first, then flows with an intake, then flows for documents made here, such as acknowledgments. */
const lines = computed(() => [...(overview.value?.lines ?? [])].sort((a, b) => rank(a) - rank(b)))
</script>

<template>
  <div :class="stale && 'grayscale'" :data-stale="stale">
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-3" @again="again" />
    <FigureRow :overview="overview">
      <header class="flex min-w-0 flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 class="text-xl font-semibold">Overview</h1>
        <p v-if="overview" class="text-soft" data-part="glance">{{ glance(overview, found) }}</p>
        <p v-if="stale" class="text-sm font-medium text-failed">
          These figures are from before the connection was lost.
        </p>
      </header>
    </FigureRow>
    <ConcernList :concerns="found" class="mb-3" @changed="again" />
    <div v-if="overview && lines.length" class="panel divide-y divide-line/60">
      <FlowLine
        v-for="line in lines"
        :key="line.flow"
        ref="drawn"
        :line="line"
        :connections="overview.connections"
        :reasons="overview.reasons"
        compact
        @changed="soon"
      />
    </div>
    <div v-if="overview" class="panel mt-3 space-y-1.5 px-4 py-2.5">
      <SystemsLine :connections="overview.connections" />
      <RecentActs />
      <p class="text-xs text-faint">Each line above is a flow. <TermHelp term="step" word="What is a step?" /></p>
    </div>
    <EmptyState v-if="overview && !lines.length" title="No flows yet">
      A flow is a file in the workspace’s folder <code>flows</code>; <code>wirewatch deploy</code> makes it run.
    </EmptyState>
  </div>
</template>
