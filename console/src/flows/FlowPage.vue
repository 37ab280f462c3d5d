<script setup lang="ts">
/** One flow: its line, figures over time, why its messages failed, and its newest messages. */
import { computed, ref, watch } from 'vue'
import { api, asked } from '../api/client'
import { FigureRange } from '../api/schema'
import type { FlowFigures } from '../api/schema'
import { useAsked, useThrottled } from '../api/useAsked'
import { useLive } from '../live/useLive'
import FlowLine from '../overview/FlowLine.vue'
import { hasFlow, titleOf, useWorkspace } from '../shell/useWorkspace'
import EmptyState from '../ui/EmptyState.vue'
import FigureTable from '../ui/FigureTable.vue'
import RangeButtons from '../ui/RangeButtons.vue'
import StateBadge from '../ui/StateBadge.vue'
import TimeChart from '../ui/TimeChart.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useEvery } from '../ui/useEvery'
import { count, figure, took } from '../words/format'
import { stateOf } from './flows'

const NEWEST = 12

const props = defineProps<{ name: string }>()
useWorkspace()
const range = ref<FigureRange>(FigureRange.Value1h)
const table = ref(false)
const drawn = ref<InstanceType<typeof FlowLine>>()
const { known, trouble, again } = useAsked(
  async (signal) => {
    const flow = props.name
    if (!(await hasFlow(flow))) return { newest: [] }
    const [story, newest] = await Promise.all([
      asked(api.GET('/api/flows/{flow}', { params: { path: { flow } }, signal })),
      asked(api.GET('/api/messages', { params: { query: { flow, limit: NEWEST } }, signal })),
    ])
    return { story, newest: newest.messages }
  },
  () => ['flow', props.name],
)
const { known: figures, again: countAgain } = useAsked((): Promise<FlowFigures> =>
  asked(
    api.GET('/api/flows/{flow}/figures', { params: { path: { flow: props.name }, query: { range: range.value } } }),
  ),
)
const soon = useThrottled(() => void again(), 1000)
useLive({
  pulse: ({ changes }) => {
    const own = changes.filter((change) => change.flow === props.name)
    drawn.value?.show(own)
    if (own.length) soon()
  },
  anew: soon,
})
watch(() => props.name, again, { immediate: true })
useEvery(5000, () => (void again(), line.value && void countAgain()))

const story = computed(() => known.value?.story)
const line = computed(() => story.value?.line)
// A flow that does not exist has no figures.
watch([() => line.value?.flow, range], ([flow]) => flow && void countAgain())
const reasons = computed(() => story.value?.reasons ?? [])
const span = (us: number | null | undefined) => (us === null || us === undefined ? '–' : took(us))
const at = computed(() => figures.value?.slots.map((slot) => slot.at) ?? [])
const counts = computed(() => [
  { name: 'done', values: figures.value?.slots.map((slot) => slot.done) ?? [], tone: 'done' },
  {
    name: 'failed, still needing attention',
    values: figures.value?.slots.map((slot) => slot.failed) ?? [],
    tone: 'failed',
  },
])
const durations = computed(() => [
  { name: 'median', values: figures.value?.slots.map((slot) => slot.median_us) ?? [], tone: 'thread' },
  { name: '95th percentile', values: figures.value?.slots.map((slot) => slot.p95_us) ?? [], tone: 'waiting' },
])
const rows = computed(
  () =>
    figures.value?.slots.map(({ at, done, failed, median_us, p95_us }) => ({
      at,
      cells: [done, failed, span(median_us), span(p95_us)],
    })) ?? [],
)
</script>

<template>
  <div>
    <TroubleNote v-if="trouble" :trouble="trouble" class="mb-4" @again="again" />
    <template v-if="line && story && known">
      <header class="mb-4">
        <p class="text-sm text-faint">
          <RouterLink to="/flows" class="hover:text-thread hover:underline">Flows</RouterLink> · {{ line.flow }}
        </p>
        <h1 class="text-xl font-semibold">{{ line.title }}</h1>
        <p class="text-soft" data-part="state">
          {{ stateOf(line) }}
        </p>
        <p v-if="story.notes" class="mt-1 max-w-prose whitespace-pre-line" data-part="notes">{{ story.notes }}</p>
      </header>
      <FlowLine ref="drawn" :line="line" :connections="story.connections" :reasons="reasons" @changed="again" />
      <section v-if="figures" aria-label="Figures" class="mt-4">
        <div class="mb-2 flex flex-wrap items-center gap-3">
          <RangeButtons v-model="range" />
          <button type="button" class="link text-xs" @click="table = true">As a table</button>
          <p class="text-sm text-soft" data-part="figures">
            {{ count(figures.done, 'message') }} done, median {{ span(figures.median_us) }}, 95th percentile
            {{ span(figures.p95_us) }}; {{ figures.failed }} failed
          </p>
        </div>
        <div class="grid gap-4 lg:grid-cols-2">
          <div class="panel p-3">
            <h2 class="heading mb-2">Messages</h2>
            <TimeChart label="Messages done and failed over time" :at="at" :series="counts" :write="figure" bars />
          </div>
          <div class="panel p-3">
            <h2 class="heading mb-2">Duration from arrival to done</h2>
            <TimeChart
              label="Duration over time, median and 95th percentile"
              :at="at"
              :series="durations"
              :write="(us) => took(us)"
            />
          </div>
        </div>
      </section>
      <div class="mt-4 grid items-start gap-4 lg:grid-cols-2">
        <section class="panel p-3" aria-labelledby="why-failed">
          <h2 id="why-failed" class="heading mb-1">Why messages failed</h2>
          <ul v-if="reasons.length" class="divide-y divide-line/60 text-sm">
            <li v-for="reason in reasons" :key="reason.id" class="py-1.5">
              <RouterLink :to="`/messages?state=failed&reason=${reason.id}`" class="hover:text-thread hover:underline">
                <strong class="font-semibold">{{ figure(reason.messages) }}</strong> at {{ reason.step }}:
                {{ reason.says }}
              </RouterLink>
            </li>
          </ul>
          <p v-else class="text-sm text-soft">No message of this flow needs attention.</p>
        </section>
        <section class="panel p-3" aria-labelledby="newest">
          <h2 id="newest" class="heading mb-1">Newest messages</h2>
          <ul class="divide-y divide-line/60 text-sm">
            <li v-for="one in known.newest" :key="one.id" class="flex items-center gap-3 py-1.5">
              <RouterLink :to="`/messages/${one.id}`" class="min-w-0 grow truncate font-medium hover:text-thread">{{
                one.key || one.id
              }}</RouterLink>
              <span class="truncate text-soft">{{ one.result }}</span>
              <StateBadge :state="one.state" />
              <span class="text-soft"><TimeText :at="one.received" /></span>
            </li>
          </ul>
          <RouterLink :to="`/messages?flow=${line.flow}`" class="link text-sm">All messages of this flow</RouterLink>
        </section>
      </div>
      <div class="mt-4 grid items-start gap-4 lg:grid-cols-2">
        <section v-if="story.intakes.length" class="panel p-3" aria-labelledby="intakes">
          <h2 id="intakes" class="heading mb-1">Where its messages come from</h2>
          <ul class="divide-y divide-line/60 text-sm" data-part="intakes">
            <li v-for="(one, n) in story.intakes" :key="n" class="flex flex-wrap items-baseline gap-x-3 py-1.5">
              <code>{{ one.takes }}</code>
              <span class="grow"
                >from
                <RouterLink :to="`/connections#${one.connection}`" class="link">{{
                  titleOf('connections', one.connection)
                }}</RouterLink><template v-if="one.queue"> (queue {{ one.queue }})</template></span
              >
              <RouterLink v-if="one.sample && one.received" :to="`/arrivals/${one.sample}`" class="link"
                >newest arrival <TimeText :at="one.received"
              /></RouterLink>
              <span v-else class="text-faint">nothing received yet</span>
            </li>
          </ul>
        </section>
        <section class="panel p-3" aria-labelledby="versions">
          <h2 id="versions" class="heading mb-1">Versions</h2>
          <ul class="divide-y divide-line/60 text-sm" data-part="versions">
            <li v-for="one in story.versions" :key="one.release" class="py-1.5">
              <RouterLink :to="{ path: '/releases', query: { release: one.release } }" class="link"
                >release {{ one.release }}</RouterLink
              >
              <span class="text-soft"> <TimeText :at="one.at" /> by {{ one.by }}</span>
              <span v-if="one.says">: {{ one.says }}</span>
              <span class="block text-soft">{{ one.changes.map((change) => change.file).join(', ') }}</span>
            </li>
            <li v-for="act in story.acts" :key="act.at" class="py-1.5 text-soft">
              <TimeText :at="act.at" /> {{ act.act }} by {{ act.by }}: {{ act.why }}
            </li>
          </ul>
          <p v-if="!story.versions.length" class="text-sm text-soft">No release of the newest 50 changed it.</p>
        </section>
      </div>
      <FigureTable
        :open="table"
        :title="`${line.title} over time`"
        :heads="['Done', 'Failed', 'Median', '95th percentile']"
        :rows="rows"
        @close="table = false"
      />
    </template>
    <EmptyState v-else-if="known" title="No flow has this name">
      The running release has none. <RouterLink to="/flows" class="link">Show all flows</RouterLink>.
    </EmptyState>
  </div>
</template>
