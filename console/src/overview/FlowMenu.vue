<script setup lang="ts">
/** The state of a flow in words, and the menu of its acts: submit a document, pause or resume, record more, see its messages. */
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { EllipsisHorizontalIcon } from '@heroicons/vue/16/solid'
import { computed, defineAsyncComponent, ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import { RecordingDepth } from '../api/schema'
import type { FlowLine } from '../api/schema'
import ReasonDialog from '../ui/ReasonDialog.vue'
import TimeText from '../ui/TimeText.vue'
import TroubleNote from '../ui/TroubleNote.vue'
import { listed } from '../words/format'

const HOUR_S = 3600

const props = defineProps<{
  line: FlowLine
  /** The state alone, or the menu alone; both when left out. */
  part?: 'state' | 'menu'
}>()
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const SubmitDialog = defineAsyncComponent(() => import('../submit/SubmitDialog.vue'))
const submitting = ref(false)
const pausing = ref(false)
const busy = ref(false)
const trouble = shallowRef<Trouble>()
const params = computed(() => ({ path: { flow: props.line.flow } }))
const held = computed(() => props.line.steps.flatMap((step) => step.on_hold ?? []))

async function carryOut(act: () => Promise<unknown>) {
  busy.value = true
  trouble.value = undefined
  try {
    await act()
    emit('changed')
  } catch (error) {
    trouble.value = troubleOf(error)
  } finally {
    busy.value = false
  }
}
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
  const stopped = line.paused ? 'Resume' : held.value.length ? 'Let one waiting message try' : ''
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
  <span class="flex min-w-0 items-center gap-2 text-xs">
    <template v-if="part !== 'menu'">
      <template v-if="line.paused">
        <span class="truncate text-waiting" :title="line.paused.says" data-paused>
          <span aria-hidden="true">Ⅱ</span> paused by {{ line.paused.by }} since <TimeText :at="line.paused.since" />:
          {{ line.paused.says }}
        </span>
        <button type="button" class="link shrink-0" :disabled="busy" @click="resume">Resume</button>
      </template>
      <template v-else-if="held.length">
        <span class="truncate text-waiting" :title="held[0]?.says" data-on-hold>
          <span aria-hidden="true">Ⅱ</span> {{ listed(held.map((one) => one.step)) }} on hold<template
            v-if="held[0] && !part"
            >, one tries <TimeText :at="held[0].next_try" as="distance"
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
      </template>
      <TroubleNote v-if="trouble" :trouble="trouble" />
    </template>
    <Menu v-if="part !== 'state'" as="span" class="relative shrink-0">
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
    <SubmitDialog v-if="submitting" :flow="line.flow" :title="line.title" @close="submitting = false" />
  </span>
</template>
