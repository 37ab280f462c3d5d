<script setup lang="ts">
/** Connections: a table with traffic and state, and the details and acts of one of them. */
import { EventKind, HoldState, MessageState } from '../api/schema'
import { computed, onMounted, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, asked } from '../api/client'
import { useAsked, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import EmptyState from '../ui/EmptyState.vue'
import SparkLine from '../ui/SparkLine.vue'
import StateBadge from '../ui/StateBadge.vue'
import TermHelp from '../ui/TermHelp.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import { figure, span } from '../words/format'
import ConnectionCard from './ConnectionCard.vue'
import { trafficOf, withDepth } from './traffic'

const route = useRoute()
const router = useRouter()
const {
  known: overview,
  trouble,
  again,
} = useAsked(
  (signal) => asked(api.GET('/api/overview', { signal })),
  () => ['overview'],
)
const soon = useThrottled(() => void again(), 1000)
useLive({
  pulse: ({ changes }) => {
    // The number of waiting messages changes with the messages.
    if (changes.some((change) => change.kind === EventKind.hold || change.state === MessageState.waiting)) soon()
    else if (overview.value?.connections.some((one) => one.on_hold) && changes.length) soon()
  },
  anew: soon,
})
onMounted(again)
// Traffic falls, and the contents of queues change, without any message here.
useEvery(3000, again)

/** Depths of queues since the page was opened, by connection. */
const depths = shallowRef(new Map<string, number[]>())
const rows = computed(
  () => overview.value?.connections.map((one) => ({ connection: one, traffic: trafficOf(one, overview.value!) })) ?? [],
)
watch(rows, (now) => {
  depths.value = new Map(
    now.map(({ connection: { name }, traffic }) => [name, withDepth(depths.value.get(name) ?? [], traffic.depth)]),
  )
})
/** The one in the address; otherwise one on hold, or the first. */
const chosen = computed(() => {
  const all = overview.value?.connections ?? []
  const wanted = decodeURIComponent(route.hash.slice(1))
  return all.find((one) => one.name === wanted) ?? all.find((one) => one.on_hold) ?? all[0]
})
const choose = (name: string) => router.replace({ hash: `#${encodeURIComponent(name)}` })
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
    <div v-if="rows.length" class="grid items-start gap-4 2xl:grid-cols-[minmax(0,1fr)_26rem]">
      <div class="panel overflow-x-auto">
        <table class="w-full text-sm">
          <caption class="sr-only">
            Connections with their traffic
          </caption>
          <thead>
            <tr class="border-b border-line text-left">
              <th scope="col" class="heading px-3 py-2">Connection</th>
              <th scope="col" class="heading px-3 py-2">State</th>
              <th scope="col" class="heading px-3 py-2">Rate</th>
              <th scope="col" class="heading px-3 py-2 text-right">Failed</th>
              <th scope="col" class="heading px-3 py-2 text-right">Waiting</th>
              <th scope="col" class="heading px-3 py-2 text-right">p95</th>
              <th scope="col" class="heading px-3 py-2">In queues</th>
            </tr>
          </thead>
          <tbody>
            <tr
              v-for="{ connection, traffic } in rows"
              :key="connection.name"
              class="cursor-pointer border-b border-line/60 last:border-0 hover:bg-sunken"
              :class="connection.name === chosen?.name && 'bg-sunken'"
              :data-row="connection.name"
              @click="choose(connection.name)"
            >
              <td class="px-3 py-2">
                <button
                  type="button"
                  class="block text-left font-medium hover:text-thread hover:underline"
                  :aria-pressed="connection.name === chosen?.name"
                  @click.stop="choose(connection.name)"
                >
                  {{ connection.title }}
                </button>
                <span class="block max-w-64 truncate font-mono text-2xs text-faint" :title="connection.place"
                  >{{ connection.kind }} · {{ connection.place }}</span
                >
              </td>
              <td class="px-3 py-2">
                <StateBadge :state="connection.on_hold ? HoldState.on_hold : HoldState.in_use" />
              </td>
              <td class="w-44 px-3 py-2" data-part="rate">
                <div class="flex items-center gap-2">
                  <SparkLine :values="traffic.slots" low class="max-w-20" />
                  <span class="whitespace-nowrap"
                    >{{ figure(traffic.minute) }}<span class="text-faint">/min</span></span
                  >
                </div>
              </td>
              <td class="px-3 py-2 text-right tabular-nums" :class="traffic.failed ? 'text-failed' : 'text-faint'">
                <template v-if="traffic.failed">▲ </template>{{ figure(traffic.failed) }}
              </td>
              <td
                class="px-3 py-2 text-right tabular-nums"
                :class="traffic.waiting + traffic.retrying ? 'text-waiting' : 'text-faint'"
              >
                {{ figure(traffic.waiting + traffic.retrying) }}
              </td>
              <td class="px-3 py-2 text-right whitespace-nowrap">
                {{ traffic.slow_us === undefined ? '–' : span(traffic.slow_us / 1000) }}
              </td>
              <td class="w-36 px-3 py-2">
                <div v-if="traffic.depth !== undefined" class="flex items-center gap-2">
                  {{ figure(traffic.depth) }}
                  <SparkLine :values="depths.get(connection.name) ?? []" low class="max-w-20" />
                </div>
                <span v-else class="text-faint">–</span>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <ConnectionCard v-if="chosen" :id="chosen.name" :key="chosen.name" :connection="chosen" @changed="again" />
    </div>
    <EmptyState v-else-if="overview" title="No connections yet">
      A connection is a file in the workspace’s folder <code>connections</code>: an address or a folder, with
      credentials and limits.
    </EmptyState>
  </div>
</template>
