<script setup lang="ts">
/** Every flow with what passes, waits and failed in it. */
import { computed, onMounted } from 'vue'
import { api, asked } from '../api/client'
import type { FlowLine } from '../api/schema'
import { useAsked } from '../api/useAsked'
import { rank } from '../overview/reduceOverview'
import { titleOf, useWorkspace } from '../shell/useWorkspace'
import EmptyState from '../ui/EmptyState.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import { figure } from '../words/format'
import { stateOf, sums } from './flows'

useWorkspace()
const { known, trouble, again } = useAsked(
  (signal) => asked(api.GET('/api/overview', { signal })),
  () => ['overview'],
)
onMounted(again)
useEvery(5000, again)
const flows = computed(() => {
  const lines = [...(known.value?.lines ?? [])].sort((a, b) => rank(a) - rank(b))
  return lines.map((line) => ({ line, ...sums(line), state: stateOf(line) }))
})
const from = (line: FlowLine) => line.intakes.map((one) => titleOf('connections', one.connection)).join(', ')
</script>

<template>
  <div>
    <header class="mb-4">
      <h1 class="text-xl font-semibold">Flows</h1>
      <p class="text-sm text-soft">
        The way of a document from an intake through its steps. Open a flow to see its figures and recent messages.
      </p>
    </header>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <div v-if="flows.length" class="panel overflow-x-auto">
      <table class="w-full text-sm">
        <caption class="sr-only">
          Flows
        </caption>
        <thead>
          <tr class="border-b border-line text-left">
            <th scope="col" class="heading px-3 py-2 pl-4">Flow</th>
            <th scope="col" class="heading px-3">State</th>
            <th scope="col" class="heading px-3 max-[899px]:hidden">From</th>
            <th scope="col" class="heading px-3 text-right max-[899px]:hidden">Steps</th>
            <th scope="col" class="heading px-3 text-right">Done per min</th>
            <th scope="col" class="heading px-3 text-right">Waiting</th>
            <th scope="col" class="heading px-3 text-right">Retried</th>
            <th scope="col" class="heading px-3 text-right">Failed</th>
            <th scope="col" class="heading px-3">Oldest</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="{ line, state, waiting, retrying, failed, since } in flows"
            :key="line.flow"
            :data-flow="line.flow"
            class="border-b border-line/60 last:border-0 hover:bg-sunken"
          >
            <td class="py-2 pr-3 pl-4 font-medium min-[900px]:whitespace-nowrap">
              <RouterLink :to="`/flows/${encodeURIComponent(line.flow)}`" class="hover:text-thread hover:underline">{{
                line.title
              }}</RouterLink>
            </td>
            <td class="px-3 text-soft">{{ state }}</td>
            <td class="max-w-64 truncate px-3 text-soft max-[899px]:hidden">{{ from(line) || 'made here' }}</td>
            <td class="px-3 text-right tabular-nums max-[899px]:hidden">{{ line.steps.length - 1 }}</td>
            <td class="px-3 text-right tabular-nums">{{ figure(line.done_minute) }}</td>
            <td class="px-3 text-right tabular-nums">{{ waiting || '' }}</td>
            <td class="px-3 text-right tabular-nums">{{ retrying || '' }}</td>
            <td class="px-3 text-right tabular-nums" :class="failed ? 'font-semibold text-failed' : ''">
              <RouterLink v-if="failed" :to="`/messages?state=failed&flow=${line.flow}`" class="hover:underline">{{
                figure(failed)
              }}</RouterLink>
            </td>
            <td class="px-3 whitespace-nowrap text-soft"><TimeText v-if="since" :at="since" as="distance" /></td>
          </tr>
        </tbody>
      </table>
    </div>
    <EmptyState v-else-if="known" title="No flows yet">
      A flow is a file in the workspace’s folder <code>flows</code>; <code>wirewatch deploy</code> makes it run.
    </EmptyState>
  </div>
</template>
