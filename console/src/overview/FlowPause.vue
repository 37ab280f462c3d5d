<script setup lang="ts">
/** Pauses and resumes a flow: arrivals are stored meanwhile, and their messages wait. Where a step is on hold, lets one message try. */
import { ref, shallowRef } from 'vue'
import { api, asked, type Trouble, troubleOf } from '../api/client'
import type { StepHold, PausedFlow } from '../api/schema'
import ModalDialog from '../ui/ModalDialog.vue'
import TimeText from '../ui/TimeText.vue'
import { listed } from '../words/format'
import TroubleNote from '../ui/TroubleNote.vue'

const props = defineProps<{ flow: string; title: string; paused?: PausedFlow | null; held: StepHold[] }>()
const emit = defineEmits<{ changed: [] }>()
const asking = ref(false)
const why = ref('')
const busy = ref(false)
const trouble = shallowRef<Trouble>()
const params = () => ({ path: { flow: props.flow } })

async function carryOut(act: () => Promise<unknown>) {
  busy.value = true
  trouble.value = undefined
  try {
    await act()
    asking.value = false
    why.value = ''
    emit('changed')
  } catch (error) {
    trouble.value = troubleOf(error)
  } finally {
    busy.value = false
  }
}
const pause = () =>
  carryOut(() => asked(api.POST('/api/flows/{flow}/pause', { params: params(), body: { why: why.value } })))
const resume = () => carryOut(() => asked(api.POST('/api/flows/{flow}/resume', { params: params() })))
</script>

<template>
  <span class="flex min-w-0 items-baseline gap-2 text-xs">
    <template v-if="paused">
      <span class="truncate text-waiting" :title="paused.says" data-paused>
        <span aria-hidden="true">Ⅱ</span> paused by {{ paused.by }} since <TimeText :at="paused.since" />:
        {{ paused.says }}
      </span>
      <button type="button" class="link shrink-0" :disabled="busy" @click="resume">Resume</button>
    </template>
    <template v-else-if="held.length">
      <span class="truncate text-waiting" data-on-hold>
        <span aria-hidden="true">Ⅱ</span> {{ listed(held.map((one) => one.step)) }} on hold
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
    <button
      v-else
      type="button"
      data-part="pause"
      class="text-faint opacity-0 group-focus-within/line:opacity-100 group-hover/line:opacity-100 pointer-coarse:opacity-100 hover:text-thread hover:underline focus-visible:opacity-100"
      @click="asking = true"
    >
      Pause…
    </button>
    <TroubleNote v-if="trouble && !asking" :trouble="trouble" />
    <ModalDialog :open="asking" :title="`Pause ${title}`" @close="asking = false">
      <form @submit.prevent="pause">
        <p class="text-soft">
          New documents are received and wait until somebody resumes the flow. Requests that are being sent at this
          moment are completed.
        </p>
        <label class="mt-4 block text-sm font-medium" :for="`why-${flow}`">Reason (shown to colleagues)</label>
        <input :id="`why-${flow}`" v-model="why" class="field mt-1 w-full" required autocomplete="off" />
        <TroubleNote v-if="trouble" :trouble="trouble" class="mt-3" />
        <div class="mt-5 flex justify-end gap-2">
          <button type="button" class="button" @click="asking = false">Cancel</button>
          <button type="submit" class="button button-main" :disabled="busy">Pause</button>
        </div>
      </form>
    </ModalDialog>
  </span>
</template>
