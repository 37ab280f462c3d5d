<script setup lang="ts">
/** One flow: its line of knots, and the dots of messages as they pass. */
import { computed, ref } from 'vue'
import type { ConnectionView, LiveEvent, Reason, Strand } from '../api/schema'
import TimeText from '../ui/TimeText.vue'
import { figure } from '../words/format'
import FlowFire from '../fire/FlowFire.vue'
import FlowPause from './FlowPause.vue'
import KnotCell from './KnotCell.vue'
import { sampled, type Way, wayOf } from './paths'
import { isQuiet } from './reduceStrands'
import StrandDots from './StrandDots.vue'

/** Dots that set out with one pulse, at most: five pulses a second make fifty. */
const DOTS = 10

const props = defineProps<{
  strand: Strand
  connections: ConnectionView[]
  reasons: Reason[]
  /** Drawn as one thin line: nothing happens here. */
  small?: boolean
}>()
defineEmits<{ /** Somebody paused it or let it go on. */ changed: [] }>()
const dots = ref<InstanceType<typeof StrandDots>>()

const quiet = computed(() => isQuiet(props.strand))
const connectionOf = (name?: string | null) => props.connections.find((one) => one.name === name)
const held = computed(() => props.strand.knots.flatMap((knot) => knot.held ?? []))
const intake = computed(() => connectionOf(props.strand.intakes[0]?.connection))
const reasonsAt = (step: string) => props.reasons.filter((one) => one.flow === props.strand.flow && one.step === step)

/** Shows the changes that are messages of this flow. */
function show(changes: LiveEvent[]) {
  const ways = changes.map((change) => wayOf(change, props.strand)).filter((way): way is Way => !!way)
  dots.value?.send(sampled(ways, DOTS))
}
defineExpose({ show })
</script>

<template>
  <section
    class="group/strand panel px-4"
    :class="small ? 'flex min-w-0 items-center gap-4 py-1.5' : 'col-span-full min-w-0 pt-2.5 pb-3'"
    :aria-label="strand.title"
    :data-strand="strand.flow"
    :data-quiet="quiet"
  >
    <header class="flex items-baseline gap-3" :class="small && 'w-64 shrink-0'">
      <h2 class="truncate font-semibold">
        <RouterLink :to="`/messages?flow=${strand.flow}`" class="hover:text-thread hover:underline">{{
          strand.title
        }}</RouterLink>
      </h2>
      <span v-if="quiet" class="text-xs text-faint">quiet</span>
      <RouterLink
        v-else
        :to="`/messages?flow=${strand.flow}&within=1m`"
        class="text-xs text-faint hover:text-thread hover:underline"
      >
        {{ figure(strand.done_minute) }} done in the last minute
      </RouterLink>
      <span v-if="!small" class="ml-auto flex min-w-0 items-baseline gap-4">
        <span v-if="strand.recorded" class="shrink-0 text-xs text-faint" data-part="recorded">
          {{ strand.recorded.depth === 'calls' ? 'every answer' : 'answers of failures' }} recorded until
          <TimeText :at="strand.recorded.until" />
        </span>
        <FlowFire v-if="strand.intakes.length" :flow="strand.flow" :title="strand.title" />
        <FlowPause
          :flow="strand.flow"
          :title="strand.title"
          :paused="strand.paused"
          :held="held"
          @changed="$emit('changed')"
        />
      </span>
    </header>
    <div v-if="small" class="relative flex h-6 grow items-center justify-around" aria-hidden="true">
      <span class="absolute inset-x-0 top-1/2 h-px bg-line-strong" />
      <span
        v-for="knot in strand.knots"
        :key="knot.step"
        class="relative size-2 rounded-full border border-line-strong bg-surface"
      />
    </div>
    <div v-else class="relative mt-1">
      <ol class="grid gap-y-3" style="grid-template-columns: repeat(auto-fit, minmax(8.25rem, 1fr))">
        <KnotCell
          v-for="(knot, n) in strand.knots"
          :key="knot.step"
          :flow="strand.flow"
          :knot="knot"
          :first="n === 0"
          :connection="n === 0 ? intake : connectionOf(knot.connection)"
          :takes="
            n === 0 ? strand.intakes.map((one) => [one.queue, one.takes].filter(Boolean).join(': ')).join(', ') : ''
          "
          :reasons="reasonsAt(knot.step)"
        />
        <li class="relative pt-11" data-knot-end>
          <div class="relative h-5">
            <span class="absolute top-1/2 left-0 h-[3px] w-1/2 -translate-y-1/2 bg-thread/40" />
            <span
              class="absolute top-1/2 left-1/2 grid size-4 -translate-1/2 place-items-center rounded-full bg-done text-[0.625rem] leading-none text-surface"
              aria-hidden="true"
              data-knot-dot
              >✓</span
            >
          </div>
          <p class="mt-1 text-center text-xs text-faint">
            <RouterLink :to="`/messages?flow=${strand.flow}&state=done`" class="hover:text-thread hover:underline"
              >done</RouterLink
            >
          </p>
        </li>
      </ol>
      <StrandDots ref="dots" />
    </div>
  </section>
</template>
