<script setup lang="ts">
/** One flow: its steps in a line, with a dot for each message that passes. */
import { computed, ref } from 'vue'
import { RecordingDepth } from '../api/schema'
import type { ConnectionView, LiveEvent, Reason, FlowLine } from '../api/schema'
import TimeText from '../ui/TimeText.vue'
import { figure } from '../words/format'
import FlowMenu from './FlowMenu.vue'
import StepCell from './StepCell.vue'
import { sampled, type Way, wayOf } from './paths'
import { isQuiet } from './reduceOverview'
import FlowDots from './FlowDots.vue'

/** Most new dots for one pulse; at five pulses a second that is fifty. */
const DOTS = 10

const props = defineProps<{
  line: FlowLine
  connections: ConnectionView[]
  reasons: Reason[]
  /** Draws a quiet flow as one thin line. */
  small?: boolean
}>()
defineEmits<{ /** Somebody paused it or let it go on. */ changed: [] }>()
const dots = ref<InstanceType<typeof FlowDots>>()

const quiet = computed(() => isQuiet(props.line))
const connectionOf = (name?: string | null) => props.connections.find((one) => one.name === name)
const intake = computed(() => connectionOf(props.line.intakes[0]?.connection))
const reasonsAt = (step: string) => props.reasons.filter((one) => one.flow === props.line.flow && one.step === step)

/** Starts dots for the changes of this flow. */
function show(changes: LiveEvent[]) {
  const ways = changes.map((change) => wayOf(change, props.line)).filter((way): way is Way => !!way)
  dots.value?.send(sampled(ways, DOTS))
}
defineExpose({ show })
</script>

<template>
  <section
    class="panel px-4"
    :class="small ? 'flex min-w-0 items-center gap-4 py-1.5' : 'col-span-full min-w-0 pt-2.5 pb-3'"
    :aria-label="line.title"
    :data-line="line.flow"
    :data-quiet="quiet"
  >
    <header class="flex items-baseline gap-3" :class="small && 'w-64 shrink-0'">
      <h2 class="truncate font-semibold">
        <RouterLink :to="`/flows/${encodeURIComponent(line.flow)}`" class="hover:text-thread hover:underline">{{
          line.title
        }}</RouterLink>
      </h2>
      <span v-if="quiet" class="text-xs text-faint">quiet</span>
      <RouterLink
        v-else
        :to="`/messages?flow=${line.flow}&within=1m`"
        class="text-xs text-faint hover:text-thread hover:underline"
      >
        {{ figure(line.done_minute) }} done in the last minute
      </RouterLink>
      <span v-if="!small" class="ml-auto flex min-w-0 items-baseline gap-4">
        <span v-if="line.recorded" class="shrink-0 text-xs text-faint" data-part="recorded">
          {{ line.recorded.depth === RecordingDepth.calls ? 'every answer' : 'answers of failures' }} recorded until
          <TimeText :at="line.recorded.until" />
        </span>
        <FlowMenu :line="line" @changed="$emit('changed')" />
      </span>
    </header>
    <template v-if="small">
      <div class="relative flex h-6 grow items-center justify-around" aria-hidden="true">
        <span class="absolute inset-x-0 top-1/2 h-px bg-line-strong" />
        <span
          v-for="step in line.steps"
          :key="step.step"
          class="relative size-2 rounded-full border border-line-strong bg-surface"
        />
      </div>
      <FlowMenu :line="line" small @changed="$emit('changed')" />
    </template>
    <div v-else class="relative mt-1">
      <ol class="grid gap-y-3" style="grid-template-columns: repeat(auto-fit, minmax(8.25rem, 1fr))">
        <StepCell
          v-for="(step, n) in line.steps"
          :key="step.step"
          :flow="line.flow"
          :step="step"
          :first="n === 0"
          :connection="n === 0 ? intake : connectionOf(step.connection)"
          :takes="
            n === 0 ? line.intakes.map((one) => [one.queue, one.takes].filter(Boolean).join(': ')).join(', ') : ''
          "
          :reasons="reasonsAt(step.step)"
        />
        <li class="relative pt-11" data-step-end>
          <div class="relative h-5">
            <span class="absolute top-1/2 left-0 h-[3px] w-1/2 -translate-y-1/2 bg-thread/40" />
            <span
              class="absolute top-1/2 left-1/2 grid size-4 -translate-1/2 place-items-center rounded-full bg-done text-[0.625rem] leading-none text-surface"
              aria-hidden="true"
              data-step-dot
              >✓</span
            >
          </div>
          <p class="mt-1 text-center text-xs text-faint">
            <RouterLink :to="`/messages?flow=${line.flow}&state=done`" class="hover:text-thread hover:underline"
              >done</RouterLink
            >
          </p>
        </li>
      </ol>
      <FlowDots ref="dots" />
    </div>
  </section>
</template>
