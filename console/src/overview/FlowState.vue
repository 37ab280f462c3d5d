<script setup lang="ts">
/** Why a flow does not run as usual, in words, with the act that helps. Nothing for a flow that runs. */
import { computed } from 'vue'
import { api, asked } from '../api/client'
import { RecordingDepth } from '../api/schema'
import type { FlowLine } from '../api/schema'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAct } from '../ui/useAct'
import { listed } from '../words/format'

const props = defineProps<{ line: FlowLine; /** Without the time of the next try. */ compact?: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const { busy, trouble, carryOut } = useAct(() => emit('changed'))
const onHold = computed(() => props.line.steps.flatMap((step) => step.on_hold ?? []))
const params = computed(() => ({ path: { flow: props.line.flow } }))
const resume = () => carryOut(() => asked(api.POST('/api/flows/{flow}/resume', { params: params.value })))
</script>

<template>
  <div class="min-w-0 text-xs">
    <p v-if="line.paused" class="flex items-baseline gap-2">
      <span class="truncate text-waiting" :title="line.paused.says" data-paused>
        <span aria-hidden="true">Ⅱ</span> paused by {{ line.paused.by }} since <TimeText :at="line.paused.since" />:
        {{ line.paused.says }}
      </span>
      <button type="button" class="link shrink-0" :disabled="busy" @click="resume">Resume</button>
    </p>
    <p v-else-if="onHold.length" class="flex items-baseline gap-2">
      <span class="truncate text-waiting" :title="onHold[0]?.says" data-on-hold>
        <span aria-hidden="true">Ⅱ</span> {{ listed(onHold.map((one) => one.step)) }} on hold<template
          v-if="onHold[0] && !compact"
          >, one tries <TimeText :at="onHold[0].next_try" as="distance"
        /></template>
      </span>
      <button
        type="button"
        class="link shrink-0"
        title="Sends one waiting message; when it succeeds, the others follow"
        :disabled="busy"
        @click="resume"
      >
        Try one
      </button>
    </p>
    <p v-if="line.recorded" class="truncate text-faint" data-part="recorded">
      {{ line.recorded.depth === RecordingDepth.calls ? 'every answer' : 'answers of failures' }} recorded until
      <TimeText :at="line.recorded.until" />
    </p>
    <TroubleNote v-if="trouble" :trouble="trouble" />
  </div>
</template>
