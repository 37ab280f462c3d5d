<script setup lang="ts">
/** One step: its counts, duration, waiting messages and connection. */
import { computed } from 'vue'
import { QueueListening } from '../api/schema'
import type { ConnectionView, FlowStep, Reason } from '../api/schema'
import TimeText from '../ui/TimeText.vue'
import { count, figure, span } from '../words/format'

const props = defineProps<{
  flow: string
  step: FlowStep
  /** The first cell of the line: the intake. */
  first: boolean
  /** The connection that the step uses; for the first cell, the one of the intake. */
  connection?: ConnectionView
  takes: string
  reasons: Reason[]
  /** Short: the name, the rate, and what waits or failed as counts. */
  compact?: boolean
}>()

/** The queues of the intake. */
const queues = computed(() =>
  props.first ? (props.connection?.queues.filter((queue) => queue.flows.includes(props.flow)) ?? []) : [],
)
const name = computed(() => (props.first ? (props.connection ? 'arrives' : 'made here') : props.step.step))
const does = computed(() => [props.step.verb, props.step.what].filter(Boolean).join(' '))
const what = computed(() => (props.first ? props.takes : [props.step.way, does.value].filter(Boolean).join(': ')))
const ms = (us?: number | null) => (us == null ? '' : span(us / 1000))
const latency = computed(() => ms(props.step.median_us))
const latencyTitle = computed(() => `Median ${latency.value}, 95th percentile ${ms(props.step.slow_us)}`)
const to = (query: string) => `/messages?flow=${props.flow}${query}`
const at = computed(() => (props.step.step ? `&step=${props.step.step}` : ''))
const worst = computed(() =>
  props.step.failed ? 'failed' : props.step.waiting ? 'waiting' : props.step.retrying ? 'retrying' : '',
)
</script>

<template>
  <li class="relative" :data-step="step.step || 'begin'" :data-worst="worst || undefined">
    <div
      class="flex flex-col items-center justify-start text-center"
      :class="compact ? 'h-4 px-0.5' : 'h-11 px-1.5'"
      :title="compact ? [name, what].filter(Boolean).join(': ') : undefined"
    >
      <p class="max-w-full truncate" :class="compact ? 'text-2xs text-soft' : 'text-sm font-medium'" :title="name">
        {{ name }}
      </p>
      <p v-if="!compact" class="max-w-full truncate text-2xs text-faint" :title="what">{{ what }}</p>
    </div>
    <div class="relative" :class="compact ? 'h-4' : 'h-5'">
      <span
        class="absolute top-1/2 -translate-y-1/2"
        :class="[
          first ? 'right-0 left-1/2' : 'inset-x-0',
          step.way ? 'border-t-[3px] border-dotted border-thread/40' : 'h-[3px] bg-thread/40',
        ]"
        aria-hidden="true"
      />
      <svg
        v-if="step.retrying"
        viewBox="0 0 40 24"
        class="absolute -top-1 left-1/2 w-7 -translate-x-1/2 overflow-visible text-retrying"
        aria-hidden="true"
      >
        <path
          d="M26 20a12 11 0 1 0 -12 0"
          fill="none"
          stroke="currentColor"
          stroke-width="2"
          stroke-dasharray="3 2.5"
        />
        <path d="M10.5 17.5l4 3.2.4-5" fill="none" stroke="currentColor" stroke-width="2" />
      </svg>
      <span
        class="absolute top-1/2 left-1/2 size-3.5 -translate-1/2 rounded-full border-2 bg-surface"
        :style="{ borderColor: worst ? `var(--color-${worst})` : 'var(--color-thread)' }"
        data-step-dot
        aria-hidden="true"
      />
    </div>
    <p v-if="compact" class="flex flex-wrap justify-center gap-x-1.5 text-2xs whitespace-nowrap text-faint">
      <RouterLink :to="to('&within=1m')" class="hover:text-thread hover:underline" data-part="rate">{{
        figure(step.passed_minute)
      }}</RouterLink>
      <RouterLink
        v-if="step.failed"
        :to="to(`&state=failed${at}`)"
        class="font-semibold text-failed hover:underline"
        :title="reasons[0]?.says"
        data-part="failed"
        >▲ {{ figure(step.failed) }}</RouterLink
      >
      <RouterLink
        v-if="step.waiting"
        :to="to(`&state=waiting,running${at}`)"
        class="font-semibold text-waiting hover:underline"
        data-part="waiting"
        >Ⅱ {{ count(step.waiting, 'waits', 'wait') }}</RouterLink
      >
      <RouterLink
        v-if="step.retrying"
        :to="to(`&state=retrying${at}`)"
        class="font-semibold text-retrying hover:underline"
        data-part="retrying"
        >↻ {{ figure(step.retrying) }}</RouterLink
      >
    </p>
    <div v-else class="flex flex-col items-center gap-1 px-1 pt-1 text-center text-xs">
      <p class="flex flex-wrap justify-center gap-x-1.5 text-soft">
        <RouterLink :to="to('&within=1m')" class="hover:text-thread hover:underline" data-part="rate">
          {{ figure(step.passed_minute) }}<span class="text-faint">/min</span>
        </RouterLink>
        <span v-if="latency" :title="latencyTitle">· {{ latency }}</span>
      </p>
      <RouterLink
        v-if="step.running"
        :to="to(`&state=running${at}`)"
        class="text-running hover:underline"
        data-part="running"
        >● {{ figure(step.running) }} here now</RouterLink
      >
      <RouterLink
        v-if="step.waiting"
        :to="to(`&state=waiting,running${at}`)"
        class="font-medium text-waiting hover:underline"
        data-part="waiting"
        >Ⅱ {{ count(step.waiting, 'waits', 'wait') }}</RouterLink
      >
      <p v-if="step.on_hold" class="font-medium text-waiting" :title="step.on_hold.says" data-part="held">
        on hold since <TimeText :at="step.on_hold.since" />, one tries
        <TimeText :at="step.on_hold.next_try" as="distance" />
      </p>
      <RouterLink
        v-if="step.retrying"
        :to="to(`&state=retrying${at}`)"
        class="font-medium text-retrying hover:underline"
        data-part="retrying"
        >↻ {{ figure(step.retrying) }}
        <template v-if="step.next_due">next <TimeText :at="step.next_due" as="distance" /></template
      ></RouterLink>
      <RouterLink
        v-for="reason in reasons"
        :key="reason.id"
        :to="`/messages?state=failed&reason=${reason.id}`"
        class="line-clamp-2 max-w-full rounded-sm bg-failed/10 px-1.5 py-0.5 text-failed hover:underline"
        :title="reason.says"
        data-part="failed"
        ><strong class="font-semibold">▲ {{ figure(reason.messages) }}</strong> {{ reason.messages > 1 ? 'e.g. ' : ''
        }}{{ reason.says }}</RouterLink
      >
      <RouterLink
        v-for="queue in queues"
        :key="queue.name"
        :to="`/connections#${connection?.name}`"
        class="max-w-full truncate hover:underline"
        :class="queue.listening === QueueListening.stopped ? 'font-medium text-failed' : 'text-soft'"
        :title="queue.listening === QueueListening.stopped ? `not read: ${queue.says}` : `the queue ${queue.name}`"
        data-part="queue"
      >
        <template v-if="queue.listening === QueueListening.stopped">▲ not read</template>
        <template v-else-if="queue.messages != null"
          >{{ figure(queue.messages) }} in the queue · {{ count(queue.consumers ?? 0, 'consumer') }}</template
        >
        <template v-else>{{ queue.name }}</template>
      </RouterLink>
      <RouterLink
        v-if="connection"
        :to="`/connections#${connection.name}`"
        class="max-w-full truncate hover:underline"
        :class="connection.on_hold ? 'font-medium text-waiting' : 'text-faint'"
        :title="connection.on_hold ? `on hold: ${connection.on_hold.says}` : connection.title"
        data-part="connection"
      >
        <template v-if="connection.on_hold">
          Ⅱ {{ connection.title }}, on hold since <TimeText :at="connection.on_hold.since" />
        </template>
        <template v-else><span class="text-done" aria-hidden="true">●</span> {{ connection.title }}</template>
      </RouterLink>
    </div>
  </li>
</template>
