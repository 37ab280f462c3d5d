<script setup lang="ts">
/** The menu of a flow's acts: submit a document, pause or resume, record more, see its messages. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { EllipsisHorizontalIcon } from '@heroicons/vue/16/solid'
import { computed, defineAsyncComponent, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, asked } from '../api/client'
import { RecordingDepth } from '../api/schema'
import type { FlowLine } from '../api/schema'
import ModalDialog from '../ui/ModalDialog.vue'
import ReasonDialog from '../ui/ReasonDialog.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { useAct } from '../ui/useAct'

const HOUR_S = 3600

const props = defineProps<{ line: FlowLine }>()
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const SubmitDialog = defineAsyncComponent(() => import('../submit/SubmitDialog.vue'))
const submitting = ref(false)
const pausing = ref(false)
const { trouble, carryOut } = useAct(() => emit('changed'))
const params = computed(() => ({ path: { flow: props.line.flow } }))
const onHold = computed(() => props.line.steps.some((step) => step.on_hold))
const pause = (why: string) => asked(api.POST('/api/flows/{flow}/pause', { params: params.value, body: { why } }))
const resume = () => carryOut(() => asked(api.POST('/api/flows/{flow}/resume', { params: params.value })))
const record = (seconds: number) =>
  carryOut(() =>
    asked(
      api.POST('/api/flows/{flow}/record', { params: params.value, body: { depth: RecordingDepth.calls, seconds } }),
    ),
  )

interface FlowAct {
  text: string
  act: () => unknown
}
const acts = computed(() => {
  const { line } = props
  const stopped = line.paused ? 'Resume' : onHold.value ? 'Let one waiting message try' : ''
  const all: FlowAct[] = [
    { text: 'Open the flow', act: () => router.push(`/flows/${encodeURIComponent(line.flow)}`) },
    { text: 'See its messages', act: () => router.push({ path: '/messages', query: { flow: line.flow } }) },
  ]
  if (line.intakes.length) all.push({ text: 'Submit one…', act: () => (submitting.value = true) })
  if (stopped) all.push({ text: stopped, act: resume })
  if (!line.paused) all.push({ text: 'Pause…', act: () => (pausing.value = true) })
  all.push(
    line.recorded
      ? { text: 'Record as its file says', act: () => record(0) }
      : { text: 'Record every answer for an hour', act: () => record(HOUR_S) },
  )
  return all
})
</script>

<template>
  <span class="shrink-0 text-xs">
    <Menu as="span" class="relative block">
      <MenuButton
        class="grid size-6 place-items-center rounded-md text-soft hover:bg-sunken hover:text-thread"
        data-part="acts"
        :aria-label="`Acts on ${line.title}`"
        ><EllipsisHorizontalIcon class="size-4" aria-hidden="true"
      /></MenuButton>
      <MenuItems
        class="absolute right-0 z-30 mt-1 w-60 animate-appear rounded-md border border-line bg-raised py-1 text-sm shadow-over focus:outline-none"
      >
        <MenuItem v-for="one in acts" :key="one.text" v-slot="{ active }">
          <button
            type="button"
            class="block w-full px-3 py-1.5 text-left"
            :class="active && 'bg-sunken'"
            @click="one.act"
          >
            {{ one.text }}
          </button>
        </MenuItem>
      </MenuItems>
    </Menu>
    <ReasonDialog
      :open="pausing"
      :title="`Pause ${line.title}`"
      verb="Pause"
      :act="pause"
      @close="pausing = false"
      @done="emit('changed')"
    >
      <p class="text-soft">
        New documents are received and wait until somebody resumes the flow. Requests that are being sent at this moment
        are completed.
      </p>
    </ReasonDialog>
    <ModalDialog :open="!!trouble" title="It was not done" @close="trouble = undefined">
      <TroubleNote v-if="trouble" :trouble="trouble" />
      <div class="mt-5 flex justify-end">
        <button type="button" class="button" @click="trouble = undefined">Close</button>
      </div>
    </ModalDialog>
    <SubmitDialog v-if="submitting" :flow="line.flow" :title="line.title" @close="submitting = false" />
  </span>
</template>
