<script setup lang="ts">
/** One flow: its steps in a line, with a dot for each message that passes. */
import { computed, ref } from 'vue'
import type { ConnectionView, LiveEvent, Reason, FlowLine } from '../api/schema'
import SparkLine from '../ui/SparkLine.vue'
import { figure, span } from '../words/format'
import FlowMenu from './FlowMenu.vue'
import FlowState from './FlowState.vue'
import StepCell from './StepCell.vue'
import { sampled, type Way, wayOf } from './paths'
import { isQuiet, slowest } from './reduceOverview'
import FlowDots from './FlowDots.vue'

/** Most new dots for one pulse; at five pulses a second that is fifty. */
const DOTS = 10

const props = defineProps<{
  line: FlowLine
  connections: ConnectionView[]
  reasons: Reason[]
  /** One row of a list: short names, counts, and figures at its end. */
  compact?: boolean
}>()
defineEmits<{ /** Somebody paused it or let it go on. */ changed: [] }>()
const dots = ref<InstanceType<typeof FlowDots>>()

const quiet = computed(() => isQuiet(props.line))
const connectionOf = (name?: string | null) => props.connections.find((one) => one.name === name)
const intake = computed(() => connectionOf(props.line.intakes[0]?.connection))
const reasonsAt = (step: string) => props.reasons.filter((one) => one.flow === props.line.flow && one.step === step)
const failed = computed(() => props.line.steps.reduce((sum, step) => sum + step.failed, 0))
const slow = computed(() => slowest(props.line))
const takes = computed(() =>
  props.line.intakes.map((one) => [one.queue, one.takes].filter(Boolean).join(': ')).join(', '),
)

/** Starts dots for the changes of this flow. */
function show(changes: LiveEvent[]) {
  const ways = changes.map((change) => wayOf(change, props.line)).filter((way): way is Way => !!way)
  dots.value?.send(sampled(ways, DOTS))
}
defineExpose({ show })
</script>

<template>
  <section
    :class="
      compact
        ? 'grid grid-cols-[13rem_minmax(0,1fr)_auto] 2xl:grid-cols-[18rem_minmax(0,1fr)_auto] items-center gap-x-3 px-4 py-0.5 max-[1099px]:grid-cols-[minmax(0,1fr)_auto]'
        : 'panel min-w-0 px-4 pt-2.5 pb-3'
    "
    :aria-label="line.title"
    :data-line="line.flow"
    :data-quiet="quiet"
  >
    <header class="min-w-0" :class="!compact && 'flex items-baseline gap-3'">
      <h2 class="truncate font-semibold" :class="compact && 'text-sm'">
        <RouterLink
          v-if="compact"
          :to="`/flows/${encodeURIComponent(line.flow)}`"
          class="hover:text-thread hover:underline"
          >{{ line.title }}</RouterLink
        >
        <template v-else>Steps</template>
      </h2>
      <FlowState :line="line" :compact="compact" :class="!compact && 'ml-auto'" @changed="$emit('changed')" />
      <FlowMenu v-if="!compact" :line="line" @changed="$emit('changed')" />
    </header>
    <div class="relative" :class="compact ? 'max-[1099px]:col-span-full max-[1099px]:row-start-2' : 'mt-1'">
      <ol
        class="grid gap-y-3"
        :style="`grid-template-columns: repeat(auto-fit, minmax(${compact ? '5rem' : '8.25rem'}, 1fr))`"
      >
        <StepCell
          v-for="(step, n) in line.steps"
          :key="step.step"
          :flow="line.flow"
          :step="step"
          :first="n === 0"
          :connection="n === 0 ? intake : connectionOf(step.connection)"
          :takes="n === 0 ? takes : ''"
          :reasons="reasonsAt(step.step)"
          :compact="compact"
        />
        <li class="relative" :class="compact ? 'pt-4' : 'pt-11'" data-step-end>
          <div class="relative" :class="compact ? 'h-4' : 'h-5'">
            <span class="absolute top-1/2 left-0 h-[3px] w-1/2 -translate-y-1/2 bg-thread/40" />
            <span
              class="absolute top-1/2 left-1/2 grid size-4 -translate-1/2 place-items-center rounded-full bg-done text-[0.625rem] leading-none text-surface"
              aria-hidden="true"
              data-step-dot
              >✓</span
            >
          </div>
          <p class="text-center text-faint" :class="compact ? 'text-2xs' : 'mt-1 text-xs'">
            <RouterLink :to="`/messages?flow=${line.flow}&state=done`" class="hover:text-thread hover:underline"
              >done</RouterLink
            >
          </p>
        </li>
      </ol>
      <FlowDots ref="dots" />
    </div>
    <div v-if="compact" class="flex items-center gap-3">
      <dl class="flex items-center gap-3 text-right text-xs" data-part="figures">
        <div class="w-20">
          <dt class="sr-only">Done in the last minute</dt>
          <dd>
            <SparkLine :values="line.done_slots" low />
            <RouterLink :to="`/messages?flow=${line.flow}&within=1m`" class="hover:text-thread hover:underline"
              >{{ figure(line.done_minute) }}<span class="text-faint">/min</span></RouterLink
            >
          </dd>
        </div>
        <div class="w-12">
          <dt class="text-2xs text-faint">failed</dt>
          <dd>
            <RouterLink
              v-if="failed"
              :to="`/messages?state=failed&flow=${line.flow}`"
              class="font-semibold text-failed hover:underline"
              >▲ {{ figure(failed) }}</RouterLink
            >
            <span v-else class="text-faint">0</span>
          </dd>
        </div>
        <div
          class="w-14"
          :title="slow ? `the slowest step is ${slow.step}: 95th percentile of its requests` : undefined"
        >
          <dt class="text-2xs text-faint">p95</dt>
          <dd>{{ slow ? span(slow.us / 1000) : '–' }}</dd>
        </div>
      </dl>
      <FlowMenu :line="line" @changed="$emit('changed')" />
    </div>
  </section>
</template>
